import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, plural, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { AreaField, ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { useForm } from "../ui/useForm";
import { Line, Listing, Remove, Wrong } from "./parts";

const TRANSPORTS = [
  ["udp", "UDP"],
  ["tcp", "TCP"],
  ["tls", "TLS"],
] as const;
type Transport = (typeof TRANSPORTS)[number][0];

/** Where syslog comes in, and where events are sent on to. */
export function Component() {
  const may = useMay("administrator");
  return (
    <>
      <Receivers may={may} />
      <Forwards may={may} />
    </>
  );
}

function Receivers({ may }: { may: boolean }) {
  const client = useQueryClient();
  const form = useForm<{ name: string; transport: Transport; listen: string; zone: string; client_ca: string }>({
    name: "",
    transport: "udp",
    listen: "0.0.0.0:5514",
    zone: "UTC",
    client_ca: "",
  });
  const receivers = useQuery({
    queryKey: ["receivers"],
    queryFn: () => got(api.GET("/api/v1/receivers")),
    refetchInterval: 5_000,
  });
  const [problem, setProblem] = useState("");
  const again = () => client.invalidateQueries({ queryKey: ["receivers"] });
  const make = async () => {
    const { name, client_ca, ...body } = form.values;
    const held = { protocol: "syslog", at: "console", client_ca: client_ca.trim() || null, ...body } as const;
    await got(api.PUT("/api/v1/receivers/{name}", { params: { path: { name } }, body: held }));
    form.reset();
    await again();
  };
  return (
    <section aria-label="Receivers" className="mb-8">
      <h2 className="mb-2 font-semibold">Receivers: syslog taken in</h2>
      {may && (
        <RowForm
          form={form}
          send={make}
          label="Take syslog in"
          note="Who speaks to it and is no host yet waits under Enrol; nothing of what it says is lost."
        >
          <TextField name="name" label="Name" width="w-40" required />
          <ChoiceField name="transport" label="Over" width="w-24" options={TRANSPORTS} />
          <TextField name="listen" label="Address and port" mono width="w-44" required />
          <TextField name="zone" label="Zone of senders who say none" width="w-44" required />
          {form.values.transport === "tls" && (
            <AreaField
              name="client_ca"
              label="Only from senders with a certificate of (PEM; all, if empty)"
              rows={2}
              width="w-80"
            />
          )}
        </RowForm>
      )}
      <Wrong problem={problem} />
      {receivers.isError && <Failure error={receivers.error} />}
      {!receivers.data && !receivers.isError && <Waiting what="the receivers" />}
      {receivers.data?.items.length === 0 && (
        <Empty title="No receiver yet">Network devices and other systems send syslog: give them an address here.</Empty>
      )}
      {receivers.data && receivers.data.items.length > 0 && (
        <Listing columns={["receiver", "state", "over", "listens on", "at", "received", "dropped", "senders", ""]}>
          {receivers.data.items.map((one) => (
            <Line
              key={one.name}
              cells={[
                <span key="n" className="font-semibold">
                  {one.name}
                </span>,
                <span key="s">
                  <Signal state={one.listening ? "ok" : "critical"} size={15} label={one.state} /> {one.state}
                  {one.message && <span className="block text-ink-2">{one.message}</span>}
                </span>,
                one.transport.toUpperCase(),
                one.listen,
                one.at,
                String(one.received),
                one.dropped ? (
                  <span key="d" className="font-semibold text-state-warning">
                    {String(one.dropped)}
                  </span>
                ) : (
                  "nothing"
                ),
                one.senders.length ? plural(one.senders.length, "sender") : "none yet",
              ]}
              action={
                may && (
                  <Remove
                    work={() => got(api.DELETE("/api/v1/receivers/{name}", { params: { path: { name: one.name } } }))}
                    done={again}
                    failed={setProblem}
                    question={`End the receiver ${one.name}? What it took in stays.`}
                    label="End"
                  />
                )
              }
            />
          ))}
        </Listing>
      )}
    </section>
  );
}

const PROTOCOLS = [
  ["tls", "events as syslog over TLS"],
  ["tcp", "events as syslog over TCP"],
  ["udp", "events as syslog over UDP"],
  ["otlp", "events over OTLP"],
  ["points", "points over OTLP"],
] as const;

function Forwards({ may }: { may: boolean }) {
  const client = useQueryClient();
  const { now } = useSpan();
  const form = useForm<{
    name: string;
    over: (typeof PROTOCOLS)[number][0];
    address: string;
    where: string;
    metrics: string;
  }>({ name: "", over: "tls", address: "", where: "", metrics: "" });
  const points = form.values.over === "points";
  const web = points || form.values.over === "otlp";
  const forwards = useQuery({
    queryKey: ["forwards"],
    queryFn: () => got(api.GET("/api/v1/forwards")),
    refetchInterval: 5_000,
  });
  const [problem, setProblem] = useState("");
  const again = () => client.invalidateQueries({ queryKey: ["forwards"] });
  const make = async () => {
    const { name, over, address, where, metrics } = form.values;
    const to: Schemas["ForwardBody"]["to"] =
      over === "otlp" || over === "points"
        ? { protocol: "otlp", url: address }
        : { protocol: "syslog", transport: over, address };
    const which = points
      ? { what: "points" as const, metrics: metrics.split(/\s+/).filter(Boolean) }
      : { what: "lines" as const, metrics: [] };
    await got(
      api.PUT("/api/v1/forwards/{name}", {
        params: { path: { name } },
        body: { ...which, where: where.trim() || null, to },
      }),
    );
    form.reset();
    await again();
  };
  return (
    <section aria-label="Forwards">
      <h2 className="mb-2 font-semibold">Forwards: events and points sent on</h2>
      {may && (
        <RowForm
          form={form}
          send={make}
          label="Send on"
          note="From now on, each at least once: what cannot be sent waits here, and a restart loses nothing."
        >
          <TextField name="name" label="Name" width="w-40" required />
          <ChoiceField name="over" label="As" width="w-56" options={PROTOCOLS} />
          <TextField
            name="address"
            place={web ? "to.url" : "to.address"}
            label={web ? "Address" : "Name and port"}
            mono
            width="w-72"
            placeholder={
              web ? `https://otlp.skerry.example/v1/${points ? "metrics" : "logs"}` : "logs.skerry.example:6514"
            }
            required
          />
          {points && (
            <TextField
              name="metrics"
              label="Which metrics"
              mono
              width="w-56"
              placeholder="all, or like system.* nginx.*"
            />
          )}
          <TextField
            name="where"
            label={points ? "Of which hosts" : "Which events"}
            mono
            width="w-72"
            placeholder={points ? 'all, or like site eq "northquay"' : 'all, or like severity ge "error"'}
          />
        </RowForm>
      )}
      <Wrong problem={problem} />
      {forwards.isError && <Failure error={forwards.error} />}
      {forwards.data?.items.length === 0 && <Empty title="Nothing is sent on" />}
      {forwards.data && forwards.data.items.length > 0 && (
        <Listing columns={["forward", "state", "to", "which", "waiting", "sent", "last sent", ""]}>
          {forwards.data.items.map((one) => (
            <Line
              key={one.name}
              cells={[
                <span key="n" className="font-semibold">
                  {one.name}
                </span>,
                <span key="s">
                  <Signal state={one.state === "failing" ? "critical" : "ok"} size={15} label={one.state} /> {one.state}
                  {one.problem && <span className="block text-ink-2">{one.problem}</span>}
                </span>,
                one.to.protocol === "otlp" ? one.to.url : `${one.to.address} over ${one.to.transport.toUpperCase()}`,
                [...one.metrics, one.filter || one.where].filter(Boolean).join(" ") || `all ${one.what}`,
                String(one.waiting),
                String(one.sent),
                one.last_sent_at ? moment(unix(one.last_sent_at), now) : "not yet",
              ]}
              action={
                may && (
                  <Remove
                    work={() => got(api.DELETE("/api/v1/forwards/{name}", { params: { path: { name: one.name } } }))}
                    done={again}
                    failed={setProblem}
                    question={`Send nothing on by ${one.name} any more?`}
                    label="End"
                  />
                )
              }
            />
          ))}
        </Listing>
      )}
    </section>
  );
}
