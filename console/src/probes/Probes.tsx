import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { FleetTabs } from "../fleet/Tabs";
import { moment, plural, unix, withUnit } from "../lib/format";
import { rank } from "../lib/states";
import { useSpan, withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { StateWord } from "../ui/Signal";

type Probe = Schemas["Probe"];

/** Every probe, the worst first, with what it last said. */
export function Component() {
  const [parameters] = useSearchParams();
  const { now } = useSpan();
  const may = useMay("operator");
  const [making, setMaking] = useState(false);
  const probes = useQuery({
    queryKey: ["probes"],
    queryFn: () => got(api.GET("/api/v1/probes")),
    refetchInterval: 10_000,
  });
  if (probes.isError) return <Failure error={probes.error} again={() => void probes.refetch()} />;
  const items = [...(probes.data?.items ?? [])].sort(
    (a, b) => rank(a.state) - rank(b.state) || a.name.localeCompare(b.name),
  );
  const bad = items.filter((p) => p.state === "critical").length;
  return (
    <>
      <FleetTabs />
      <div className="mb-2 flex items-center gap-4">
        <h1 className="font-semibold text-xl">
          {bad
            ? `${plural(bad, "probe")} of ${items.length} fail${bad === 1 ? "s" : ""}`
            : plural(items.length, "probe")}
        </h1>
        {may && (
          <button type="button" className="btn btn-sm" onClick={() => setMaking(!making)}>
            {making ? "Close" : "New probe"}
          </button>
        )}
      </div>
      {making && <NewProbe done={() => setMaking(false)} />}
      {probes.isPending && <Waiting what="the probes" lines={8} />}
      {probes.data && !items.length && (
        <Empty title="No probes yet">
          A probe asks a service as its users do and judges the answer: a page and the words on it, a mail server's
          greeting, a query and its value.
        </Empty>
      )}
      {items.length > 0 && (
        <table className="w-full border-collapse font-dense">
          <thead>
            <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
              {["state", "probe", "asks", "from", "took", "last", "says"].map((h) => (
                <th
                  key={h}
                  scope="col"
                  className={`py-1 pr-4 font-normal ${h === "took" ? "text-right" : ""} ${h === "state" ? "w-24" : ""}`}
                >
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((p) => (
              <tr key={p.name} className="border-base-300 border-b align-top">
                <td className="py-1">
                  <StateWord state={p.state} />
                </td>
                <td className="whitespace-nowrap py-1 pr-4">
                  <Link
                    className="font-semibold hover:underline"
                    to={withSpan(`/probes/${encodeURIComponent(p.name)}`, parameters)}
                  >
                    {p.name}
                  </Link>
                </td>
                <td className="max-w-72 break-words py-1 pr-4 text-ink-2">
                  {p.kind} {place(p)}
                </td>
                <td className="py-1 pr-4">{from(p)}</td>
                <td className="whitespace-nowrap py-1 pr-4 text-right">
                  {p.last ? withUnit(p.last.seconds, "s") : ""}
                </td>
                <td className="whitespace-nowrap py-1 pr-4">
                  {p.last ? moment(unix(p.last.at), now, true) : "not made yet"}
                </td>
                <td className={`py-1 ${p.state === "ok" ? "text-ink-2" : ""}`}>{p.last?.message}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function place(probe: Probe): string {
  if (typeof probe.target === "string") return probe.target;
  const { address, port, name } = probe.target;
  return `${name ? `${name} at ` : ""}${address}${port ? `:${port}` : ""}`;
}

function from(probe: Probe): string {
  const bad = probe.places.filter((p) => p.state === "critical").length;
  if (probe.places.length === 1) return probe.places[0]?.place ?? "";
  return bad ? `fails from ${bad} of ${probe.places.length} places` : `${probe.places.length} places`;
}

const KINDS = [
  "http",
  "tcp",
  "tls",
  "dns",
  "smtp",
  "imap",
  "pop3",
  "ftp",
  "ldap",
  "ssh",
  "icmp",
  "postgresql",
  "mariadb",
  "redis",
] as const;
const QUERIES: readonly string[] = ["postgresql", "mariadb", "redis"];

function NewProbe({ done }: { done: () => void }) {
  const client = useQueryClient();
  const [kind, setKind] = useState<(typeof KINDS)[number]>("http");
  const [error, setError] = useState<unknown>();
  const [tried, setTried] = useState<Schemas["ProbeResult"]>();
  const relays = useQuery({ queryKey: ["relays"], queryFn: () => got(api.GET("/api/v1/relays")) });
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const read = (form: HTMLFormElement) => {
    const held = new FormData(form);
    const text = (name: string) => String(held.get(name) ?? "").trim();
    const expect: { text?: string; value?: string } = {};
    if (text("text")) expect.text = text("text");
    if (text("value")) expect.value = text("value");
    const [address = "", port] = text("target").split(":");
    const target =
      kind === "dns" ? { address, ...(port ? { port: Number(port) } : {}), name: text("name") } : text("target");
    return {
      name: text("probe"),
      body: {
        kind,
        target,
        every: text("every") || "60s",
        time_limit: text("limit") || "10s",
        from: held.getAll("from").map(String),
        credential: text("credential") || null,
        query: text("query") || null,
        expect,
      } as Schemas["ProbeBody"],
    };
  };
  const keep = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const { name, body } = read(event.currentTarget);
    setError(undefined);
    got(api.PUT("/api/v1/probes/{name}", { params: { path: { name } }, body }))
      .then(() => client.invalidateQueries({ queryKey: ["probes"] }))
      .then(done)
      .catch(setError);
  };
  const field = "input input-sm w-full";
  return (
    <form
      onSubmit={keep}
      className="mb-4 grid max-w-4xl grid-cols-3 gap-x-5 gap-y-2 border-base-300 border-y py-3 text-sm"
    >
      <label>
        What is asked
        <select
          className="select select-sm w-full"
          value={kind}
          onChange={(e) => setKind(e.target.value as typeof kind)}
        >
          {KINDS.map((k) => (
            <option key={k}>{k}</option>
          ))}
        </select>
      </label>
      <label className="col-span-2">
        {kind === "http" ? "URL" : "Address and port"}
        <input
          name="target"
          required
          className={field}
          placeholder={kind === "http" ? "https://times.skerry.example/" : "192.0.2.17:25"}
        />
      </label>
      <label>
        Name of the probe
        <input name="probe" required className={field} />
      </label>
      <label>
        Every
        <input name="every" defaultValue="60s" className={field} />
      </label>
      <label>
        Time limit
        <input name="limit" defaultValue="10s" className={field} />
      </label>
      {kind === "dns" && (
        <label>
          Name to ask for
          <input name="name" required className={field} />
        </label>
      )}
      {QUERIES.includes(kind) && (
        <>
          <label className="col-span-2">
            Query
            <input name="query" className={field} placeholder={kind === "redis" ? "PING" : "select 41 + 1"} />
          </label>
          <label>
            Its first value has to be
            <input name="value" className={field} />
          </label>
        </>
      )}
      {!["icmp", "tls"].includes(kind) && (
        <label>
          The answer has in it
          <input name="text" className={field} />
        </label>
      )}
      <label>
        Sign in with
        <select name="credential" className="select select-sm w-full">
          <option value="">nothing</option>
          {(credentials.data?.items ?? [])
            .filter((c) => c.kind === "login")
            .map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
        </select>
      </label>
      {(relays.data?.items.length ?? 0) > 0 && (
        <fieldset>
          <legend>From (the console, when none is marked)</legend>
          {relays.data?.items.map((r) => (
            <label key={r.name} className="mr-3 inline-flex items-center gap-1">
              <input type="checkbox" className="checkbox checkbox-xs" name="from" value={r.name} />
              {r.name}
            </label>
          ))}
        </fieldset>
      )}
      <div className="col-span-3 flex items-center gap-3">
        <button type="submit" className="btn btn-primary btn-sm">
          Keep it
        </button>
        <button
          type="button"
          className="btn btn-sm"
          onClick={(e) => {
            const form = e.currentTarget.form;
            if (!form?.reportValidity()) return;
            const { name, body } = read(form);
            setError(undefined);
            setTried(undefined);
            got(api.POST("/api/v1/probes/{name}/try", { params: { path: { name } }, body }))
              .then(setTried)
              .catch(setError);
          }}
        >
          Try it once
        </button>
        {tried && (
          <span role="status">
            <StateWord state={tried.good ? (tried.warning ? "warning" : "ok") : "critical"} /> in{" "}
            {withUnit(tried.seconds, "s")}: {tried.message}
          </span>
        )}
      </div>
      {error !== undefined && (
        <div className="col-span-3">
          <Failure error={error} />
        </div>
      )}
    </form>
  );
}
