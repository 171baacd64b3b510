import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas, type State } from "../api/client";
import { quoted } from "../lib/filterText";
import { moment, plural, unix, withUnit } from "../lib/format";
import { useHosts } from "../lib/queries";
import { useAddress } from "../lib/useAddress";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { FormBox, Submit, TextField, WentWrong } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { useForm } from "../ui/useForm";
import { EventsNav } from "./Nav";

type Source = Schemas["Source"];
const STATES: Record<Source["state"], { name: string; state: State }> = {
  "held-back": { name: "held back", state: "warning" },
  unreadable: { name: "not readable", state: "warning" },
  "nothing-matches": { name: "nothing matches", state: "warning" },
  binary: { name: "binary", state: "warning" },
  directory: { name: "a directory", state: "warning" },
  stopped: { name: "stopped", state: "silent" },
  empty: { name: "empty", state: "ok" },
  following: { name: "following", state: "ok" },
};
const KINDS: Record<Source["kind"], string> = {
  file: "file",
  journal: "journal",
  receiver: "syslog",
  otlp: "OTLP",
  channel: "channel",
};

/** Where lines come from, and how it goes there: what somebody has to look at comes first. */
export function Component() {
  const { now } = useSpan();
  const [parameters, change] = useAddress();
  const host = parameters.get("host") ?? "";
  const [typed, setTyped] = useState("");
  const may = useMay("operator");
  const answer = useQuery({
    queryKey: ["sources", host],
    queryFn: () => got(api.GET("/api/v1/sources", { params: { query: { host: host || undefined } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 5_000,
    retry: false,
  });
  const items = answer.data?.items.filter((one) =>
    `${one.host} ${one.name}`.toLowerCase().includes(typed.toLowerCase()),
  );
  const troubled = answer.data?.items.filter((one) => !["following", "empty"].includes(one.state)).length ?? 0;
  const only = (name: string) => change({ host: name }, true);
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">{host ? `Sources of ${host}` : "Sources"}</h1>
      <EventsNav />
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <label>
          <span className="sr-only">Sources by host or name</span>
          <input
            className="input input-sm w-64"
            placeholder="by host, path or receiver"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
          />
        </label>
        {host && (
          <button type="button" className="btn btn-sm" onClick={() => only("")}>
            Those of all hosts
          </button>
        )}
        {answer.data && (
          <span className="text-ink-2 text-sm">
            {plural(answer.data.items.length, "source")}
            {troubled ? `, ${troubled} to be looked at` : ", all well"}
          </span>
        )}
      </div>
      {may && <TryPath host={host} />}
      {answer.isError && <Failure error={answer.error} />}
      {!answer.data && !answer.isError && <Waiting what="the sources" lines={8} />}
      {answer.data?.items.length === 0 && (
        <Empty title="No lines come from anywhere yet">
          Follow files in a{" "}
          <Link className="link" to="/settings/plans">
            plan
          </Link>
          , take syslog in with a{" "}
          <Link className="link" to="/settings/receivers">
            receiver
          </Link>
          , or send OTLP logs.
        </Empty>
      )}
      {items && items.length > 0 && <Table items={items.slice(0, 500)} now={now} only={only} />}
      {items && items.length > 500 && (
        <p className="mt-2 text-ink-2 text-sm">The first 500 of {items.length}: type a part of a name above.</p>
      )}
    </>
  );
}

function Table({ items, now, only }: { items: Source[]; now: number; only: (host: string) => void }) {
  return (
    <div className="relative overflow-x-auto">
      <table className="w-full border-collapse font-dense text-sm">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2">
            {["state", "host", "kind", "source", "lines", "a minute", "last line", "dropped"].map((name) => (
              <th
                key={name}
                scope="col"
                className={`py-1 pr-4 font-normal ${["lines", "a minute", "dropped"].includes(name) ? "text-right" : ""}`}
              >
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {items.map((one) => {
            const kind = STATES[one.state];
            const where =
              one.kind === "file"
                ? `host eq ${quoted(one.host)} and log.file.path eq ${quoted(one.name)}`
                : `host eq ${quoted(one.host)}`;
            return (
              <tr key={`${one.host} ${one.kind} ${one.name}`} className="border-base-300 border-b align-top">
                <td className="whitespace-nowrap py-1 pr-4">
                  <Signal state={kind.state} size={15} label={kind.name} /> {kind.name}
                </td>
                <td className="py-1 pr-4">
                  <button type="button" className="touch font-semibold hover:underline" onClick={() => only(one.host)}>
                    {one.host}
                  </button>
                </td>
                <td className="py-1 pr-4 text-ink-2">{KINDS[one.kind]}</td>
                <td className="py-1 pr-4" style={{ minWidth: "18rem" }}>
                  <Link className="break-all hover:underline" to={`/events?${new URLSearchParams({ where })}`}>
                    {one.name}
                  </Link>
                  <span className="block text-ink-2">{one.message}</span>
                  {one.behind > 0 && (
                    <span className="block text-ink-2">{withUnit(one.behind, "By")} still to be read</span>
                  )}
                </td>
                <td className="py-1 pr-4 text-right tabular-nums">{String(one.lines)}</td>
                <td className="py-1 pr-4 text-right tabular-nums">
                  {one.lines_per_minute === null || one.lines_per_minute === undefined
                    ? ""
                    : String(Math.round(one.lines_per_minute))}
                </td>
                <td className="whitespace-nowrap py-1 pr-4 text-ink-2">
                  {one.last_line_at ? moment(unix(one.last_line_at), now) : "none yet"}
                </td>
                <td className={`py-1 text-right tabular-nums ${one.dropped ? "font-semibold text-state-warning" : ""}`}>
                  {one.dropped ? String(one.dropped) : ""}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

/** What is at a path on a host, looked at right now by whoever collects there. */
function TryPath({ host }: { host: string }) {
  const form = useForm({ host, path: "" });
  const hosts = useHosts();
  const [tried, setTried] = useState<Schemas["PathTried"]>();
  const look = async () => {
    setTried(undefined);
    const name = form.values.host || host;
    setTried(
      await got(
        api.POST("/api/v1/hosts/{name}/paths/try", {
          params: { path: { name } },
          body: { path: form.values.path },
        }),
      ),
    );
  };
  return (
    <FormBox form={form} send={look} className="mb-4" label="Try a path">
      <div className="flex flex-wrap items-end gap-3">
        <TextField name="host" label="Try a path on" list="hosts-by-name" width="w-44" required />
        <datalist id="hosts-by-name">
          {hosts.data?.items.map((one) => (
            <option key={one.id} value={one.name} />
          ))}
        </datalist>
        <TextField name="path" label="Path, or a pattern" mono width="w-80" placeholder="/var/log/**/*.log" required />
        <Submit label={form.busy ? "Looking, 10 s at most" : "Look"} />
      </div>
      <WentWrong />
      {tried && (
        <div className="mt-2 border-base-300 border-l-4 pl-3" role="status">
          <p>
            <Signal state={STATES[tried.state].state} size={15} label={STATES[tried.state].name} />{" "}
            <span className="font-semibold">{STATES[tried.state].name}</span>: {tried.message}
          </p>
          {(tried.near ?? []).length > 0 && (
            <p className="mt-1 flex flex-wrap gap-2">
              {(tried.near ?? []).map((path) => (
                <button key={path} type="button" className="btn btn-xs" onClick={() => form.set({ path })}>
                  {path}
                </button>
              ))}
            </p>
          )}
          {(tried.lines ?? []).length > 0 && (
            <pre className="mt-1 max-h-80 overflow-auto bg-base-200 p-2 text-xs">{(tried.lines ?? []).join("\n")}</pre>
          )}
        </div>
      )}
    </FormBox>
  );
}
