import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Host, type Schemas } from "../api/client";
import { FACTS } from "../fleet/facts";
import { duration, moment, unix, withUnit } from "../lib/format";
import { useMay } from "../signin/session";
import { Failure } from "../ui/Note";
import { StateWord } from "../ui/Signal";

const MODES: Record<Host["collection"]["mode"], string> = {
  resident: "resident: an agent on the host collects",
  remote: "remote: read over the network, without an agent",
  split: "split: the agent finds services, others read them",
  received: "received: known only from what others send",
  probed: "known from probes alone: nothing is collected from it",
};

/** Facts, how the host is collected, and the plan that holds for it; folded until asked for. */
export function Collected({ host, now }: { host: Host; now: number }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="mt-0.5 font-dense" open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="w-fit cursor-pointer text-primary text-sm">Facts, collection and plan</summary>
      {open && (
        <div className="grid gap-8 border-base-300 border-b py-2 md:grid-cols-3">
          <Facts host={host} now={now} />
          <Collection host={host} now={now} />
          <Plan name={host.name} />
        </div>
      )}
    </details>
  );
}

function Pairs({ title, rows }: { title: string; rows: (readonly [string, string])[] }) {
  return (
    <section aria-label={title}>
      <h2 className="font-semibold">{title}</h2>
      <dl className="hairline">
        {rows
          .filter(([, value]) => value)
          .map(([name, value]) => (
            <div key={name} className="grid grid-cols-[118px_1fr] gap-2 py-0.5 text-sm">
              <dt className="text-ink-2">{name}</dt>
              <dd className="break-words">{value}</dd>
            </div>
          ))}
      </dl>
    </section>
  );
}

function Facts({ host, now }: { host: Host; now: number }) {
  const kept = FACTS.filter((f) => !["mode", "by", "delay", "problem", "since"].includes(f.key));
  const booted = host.facts?.boot_time ? moment(host.facts.boot_time, now) : "";
  return <Pairs title="Facts" rows={[...kept.map((f) => [f.name, f.of(host, now)] as const), ["Booted", booted]]} />;
}

function Collection({ host, now }: { host: Host; now: number }) {
  const may = useMay("operator");
  const remote = useQuery({
    queryKey: ["remote", host.name],
    enabled: host.collection.mode === "remote",
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/remote", { params: { path: { name: host.name } } })),
    retry: false,
  });
  const { collection } = host;
  const cost =
    collection.cost_seconds === null || collection.cost_seconds === undefined
      ? ""
      : collection.mode === "remote"
        ? `${withUnit(collection.cost_seconds, "s")} a reading`
        : `${withUnit(collection.cost_seconds, "s")} of processor time a turn`;
  const r = remote.data;
  return (
    <div>
      <Pairs
        title="Collection"
        rows={[
          ["Mode", MODES[collection.mode]],
          ["By", collection.by],
          ["Cost", cost],
          ["Delay", collection.delay_seconds === null ? "" : withUnit(collection.delay_seconds, "s")],
          ["Clock", clockSaid(collection.clock_seconds)],
          ["Last heard", host.last_seen ? `${duration(Math.max(0, now + 15 - unix(host.last_seen)))} ago` : "never"],
          ["Last problem", collection.problem ?? "none"],
          ["Address", r ? `${r.address} port ${r.port}, ${r.protocol.toUpperCase()}` : ""],
          ["Credential", r?.credential ?? ""],
          ["Every", r?.every ?? ""],
          ["Pinned key", r?.host_key ?? ""],
        ]}
      />
      {may && collection.problem?.includes("host key") && <AcceptKey name={host.name} />}
      <Services host={host} />
    </div>
  );
}

/** How far the host's clock is off, in words; hosts that do not tell when they send say nothing. */
function clockSaid(ahead: number | null | undefined): string {
  if (ahead === null || ahead === undefined) return "";
  if (Math.abs(ahead) < 1) return "right to a second";
  return `${duration(Math.abs(ahead))} ${ahead > 0 ? "ahead" : "behind"}`;
}

type Service = Schemas["Service"];

/** Who reads each service, and what listens that nobody reads yet. */
function Services({ host }: { host: Host }) {
  const client = useQueryClient();
  const may = useMay("operator");
  const [error, setError] = useState<unknown>();
  const services = useQuery({
    queryKey: ["services", host.name],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/services", { params: { path: { name: host.name } } })),
    refetchInterval: 15_000,
  });
  const after = (work: Promise<unknown>) => {
    setError(undefined);
    work.then(() => client.invalidateQueries({ queryKey: ["services", host.name] })).catch(setError);
  };
  const { items = [], found = [] } = services.data ?? {};
  if (!items.length && !found.length) return null;
  const read = (service: Service, mode: "resident" | "split") => {
    const { id, name, target, every, kit, credential } = service;
    const body = { host: host.name, kit, mode, target, name, every, credential };
    after(got(api.PUT("/api/v1/services/{number}", { params: { path: { number: id } }, body })));
  };
  return (
    <section aria-label="Services" className="mt-3">
      <h2 className="font-semibold">Services</h2>
      {error !== undefined && <Failure error={error} />}
      {items.map((s) => (
        <p key={s.id} className="flex items-baseline gap-2 border-base-300 border-t py-0.5 text-sm">
          <StateWord state={s.state} />
          <span className="grow">
            {s.name}, read by {s.collection.by}
            {s.collection.problem && <span className="block text-state-warning">{s.collection.problem}</span>}
          </span>
          {may && s.collection.mode === "resident" && (
            <button type="button" className="btn btn-ghost btn-xs" onClick={() => read(s, "split")}>
              Read it from here
            </button>
          )}
          {may && s.collection.mode === "split" && (
            <button type="button" className="btn btn-ghost btn-xs" onClick={() => read(s, "resident")}>
              Let its agent
            </button>
          )}
        </p>
      ))}
      {found.length > 0 && <h3 className="mt-1 text-ink-2 text-sm">listening, not read yet</h3>}
      {found.slice(0, 12).map((f) => (
        <p key={f.port} className="flex items-baseline gap-2 border-base-300 border-t py-0.5 text-sm">
          <span className="grow">
            port {f.port} {f.process} <span className="text-ink-2">at {f.address}</span>
            {f.kit && <Link className="ml-1 text-primary" to="/services">{`kit ${f.kit}`}</Link>}
          </span>
          {may && (
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Read port ${f.port}`}
              onClick={() => {
                const body = {
                  host: host.name,
                  kit: "port" as const,
                  mode: "resident" as const,
                  target: { port: f.port },
                  name: f.process && /^[A-Za-z0-9][A-Za-z0-9 ._:-]*$/.test(f.process) ? `${f.process} ${f.port}` : null,
                  every: "30s",
                };
                after(got(api.POST("/api/v1/services", { body })));
              }}
            >
              Read it
            </button>
          )}
        </p>
      ))}
      {found.length > 12 && <p className="text-ink-2 text-sm">and {found.length - 12} more</p>}
    </section>
  );
}

function AcceptKey({ name }: { name: string }) {
  const [error, setError] = useState<unknown>();
  return (
    <>
      <button
        type="button"
        className="btn btn-sm mt-1"
        onClick={() => {
          if (!window.confirm(`Was ${name} set up anew? Only then accept the key it shows now.`)) return;
          setError(undefined);
          got(
            api.PUT("/api/v1/hosts/{name}/remote", { params: { path: { name } }, body: { accept_host_key: true } }),
          ).catch(setError);
        }}
      >
        Accept its new key
      </button>
      {error !== undefined && <Failure error={error} />}
    </>
  );
}

function Plan({ name }: { name: string }) {
  const plan = useQuery({
    queryKey: ["plan", name],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/plan", { params: { path: { name } } })),
  });
  if (plan.isError) return <Failure error={plan.error} />;
  const rows = (plan.data?.settings ?? []).map(
    (s) => [s.setting, s.plan === "Balise" ? s.value : `${s.value}, by the plan ${s.plan}`] as const,
  );
  return (
    <div>
      <Pairs title="Plan" rows={rows} />
      {plan.data?.applied === "not yet" && <p className="text-ink-2 text-sm">the agent has not taken this up yet</p>}
      {plan.data?.problems.map((p) => (
        <p key={p} className="text-sm text-state-warning">
          not done: {p}
        </p>
      ))}
    </div>
  );
}
