import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import { moment, plural, unix } from "../lib/format";
import { useEvents, useHosts } from "../lib/queries";
import { instant } from "../lib/span";
import { useAddress } from "../lib/useAddress";
import { useSpan, withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";

type Kind = Schemas["InventoryCount"]["kind"];
type Item = Schemas["InventoryItem"];

/** What is on a host: how much of each kind, one kind in full, what changed, and how it differs from others. */
export function Component() {
  const { name = "" } = useParams();
  const [parameters, change] = useAddress();
  const { span, now } = useSpan();
  const client = useQueryClient();
  const may = useMay("operator");
  const [said, setSaid] = useState("");
  const [error, setError] = useState<unknown>();
  const kind = (parameters.get("kind") ?? "") as Kind | "";
  const beside = parameters.get("with") ?? "";
  const text = parameters.get("text") ?? "";
  const set = (key: string, value: string) => change({ [key]: value });
  const path = { name };
  const kinds = useQuery({
    queryKey: ["inventory", name, "kinds"],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/inventory/kinds", { params: { path } })),
    refetchInterval: 30_000,
    retry: false,
  });
  const changes = useEvents("", `host eq ${quoted(name)} and source eq "change"`, span, 50);
  if (kinds.isError) return <Failure error={kinds.error} again={() => void kinds.refetch()} />;
  const some = kinds.data?.items.some((k) => k.at);
  return (
    <>
      <header className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="font-semibold text-xl">
          What is on{" "}
          <Link className="underline" to={withSpan(`/fleet/${encodeURIComponent(name)}`, parameters)}>
            {name}
          </Link>
        </h1>
        {may && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => {
              setError(undefined);
              got(api.POST("/api/v1/hosts/{name}/inventory/refresh", { params: { path } }))
                .then((note) => {
                  setSaid(note.detail);
                  setTimeout(() => void client.invalidateQueries({ queryKey: ["inventory", name] }), 4000);
                })
                .catch(setError);
            }}
          >
            Look again now
          </button>
        )}
        <span role="status" className="text-ink-2 text-sm">
          {said}
        </span>
      </header>
      {error !== undefined && <Failure error={error} />}
      {kinds.isPending && <Waiting what="the inventory" lines={8} />}
      {kinds.data && !some && (
        <Empty title="Nothing was collected yet">
          Its agent tells the inventory at its start and every hour. Hosts without an agent have none so far.
        </Empty>
      )}
      {some && (
        <div className="grid grid-cols-[210px_1fr] gap-6">
          <nav aria-label="Kinds" className="font-dense text-sm">
            <ul className="hairline">
              {[{ kind: "" as const, items: 0, changed: 0, at: "x", problem: "" }, ...(kinds.data?.items ?? [])]
                .filter((k) => k.at)
                .map((k) => (
                  <li key={k.kind} className="border-base-300 border-t">
                    <button
                      type="button"
                      aria-current={kind === k.kind}
                      className={`flex w-full justify-between py-1 text-left hover:underline ${kind === k.kind ? "font-semibold text-primary" : ""}`}
                      onClick={() => set("kind", k.kind)}
                    >
                      <span>{k.kind || "what changed"}</span>
                      <span className="text-ink-2">
                        {k.kind && k.items}
                        {k.changed > 0 && <span className="text-base-content"> · {k.changed} changed</span>}
                      </span>
                    </button>
                    {k.problem && <p className="text-state-warning text-xs">{k.problem}</p>}
                  </li>
                ))}
            </ul>
            <p className="mt-2 text-ink-2 text-xs">changed: in the last seven days</p>
          </nav>
          <div className="min-w-0">
            <Beside name={name} beside={beside} set={(value) => set("with", value)} />
            {beside ? (
              <Comparison name={name} kind={kind || undefined} beside={beside} start={span.start} />
            ) : kind ? (
              <Items name={name} kind={kind} text={text} setText={(value) => set("text", value)} now={now} />
            ) : (
              <ul className="hairline font-dense">
                {(changes.data?.items ?? []).map((e) => (
                  <li key={e.id} className="flex gap-4 border-base-300 border-t py-1">
                    <span className="w-40 whitespace-nowrap text-ink-2">{moment(unix(e.time), now, true)}</span>
                    <span className="break-words">{e.body}</span>
                  </li>
                ))}
                {changes.data && !changes.data.items.length && (
                  <li className="text-ink-2">Nothing changed in this span. Choose a longer one at the top.</li>
                )}
              </ul>
            )}
          </div>
        </div>
      )}
    </>
  );
}

function Beside({ name, beside, set }: { name: string; beside: string; set: (value: string) => void }) {
  const hosts = useHosts();
  const groups = [...new Set(hosts.data?.items.find((h) => h.name === name)?.groups ?? [])];
  return (
    <label className="mb-3 flex items-center gap-2 text-sm">
      Compare with
      <select className="select select-sm w-72" value={beside} onChange={(e) => set(e.target.value)}>
        <option value="">nothing</option>
        <option value="earlier">itself at the begin of the span</option>
        {groups.map((g) => (
          <option key={g} value={`group:${g}`}>
            what is usual in {g}
          </option>
        ))}
        {hosts.data?.items
          .filter((h) => h.name !== name)
          .map((h) => (
            <option key={h.name} value={`host:${h.name}`}>
              {h.name}
            </option>
          ))}
      </select>
    </label>
  );
}

function Comparison({
  name,
  kind,
  beside,
  start,
}: {
  name: string;
  kind: Kind | undefined;
  beside: string;
  start: number;
}) {
  const [what, ...rest] = beside.split(":");
  const value = rest.join(":");
  const query = what === "host" ? { host: value } : what === "group" ? { group: value } : { at: instant(start) };
  const answer = useQuery({
    queryKey: ["inventory", name, "compare", kind, beside, what === "earlier" ? Math.floor(start / 60) : 0],
    queryFn: () =>
      got(
        api.GET("/api/v1/hosts/{name}/inventory/compare", {
          params: { path: { name }, query: { ...query, ...(kind ? { kind } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (answer.isError) return <Failure error={answer.error} />;
  if (!answer.data) return <Waiting what="the comparison" lines={6} />;
  const { here, there, items, same, left_out } = answer.data;
  return (
    <section aria-label="Comparison">
      <h2 className="mb-1 font-semibold">
        {items.length
          ? `${plural(items.length + left_out, "thing")} differ, ${same} are the same`
          : `Nothing differs; ${same} are the same`}
      </h2>
      {items.length > 0 && (
        <table className="w-full table-fixed border-collapse font-dense text-sm">
          <thead>
            <tr className="border-base-300 border-b text-left text-ink-2">
              <th scope="col" className="w-28 py-1 font-normal">
                kind
              </th>
              <th scope="col" className="font-normal">
                name
              </th>
              <th scope="col" className="pl-4 font-normal">
                {here}
              </th>
              <th scope="col" className="pl-4 font-normal">
                {there}
              </th>
            </tr>
          </thead>
          <tbody>
            {items.map((d) => (
              <tr key={`${d.kind} ${d.name}`} className="border-base-300 border-b align-top">
                <td className="py-1 text-ink-2">{d.kind}</td>
                <td className="break-words py-1 font-semibold">{d.name}</td>
                <Side value={d.here} />
                <Side value={d.there} />
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {left_out > 0 && <p className="text-ink-2 text-sm">and {left_out} more: choose a kind</p>}
    </section>
  );
}

function Side({ value }: { value: string | null }) {
  return (
    <td className={`break-words py-1 pl-4 ${value === null ? "text-ink-2" : ""}`}>
      {value === null ? "not there" : value || "there"}
    </td>
  );
}

const ASIDE = ["name", "kind", "scope", "since"];

function Items({
  name,
  kind,
  text,
  setText,
  now,
}: {
  name: string;
  kind: Kind;
  text: string;
  setText: (value: string) => void;
  now: number;
}) {
  const answer = useQuery({
    queryKey: ["inventory", name, kind, text],
    queryFn: () =>
      got(
        api.GET("/api/v1/hosts/{name}/inventory", {
          params: { path: { name }, query: { kind, ...(text ? { text } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (answer.isError) return <Failure error={answer.error} />;
  if (!answer.data) return <Waiting what={kind} lines={8} />;
  const { items, total, at } = answer.data;
  const columns = [...new Set(items.flatMap((i: Item) => Object.keys(i)))]
    .filter((k) => !ASIDE.includes(k))
    .slice(0, 7);
  return (
    <section aria-label={kind}>
      <p className="mb-1 flex items-center gap-3 text-sm">
        <input
          className="input input-sm w-64"
          placeholder="part of a name"
          aria-label="part of a name"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <span className="text-ink-2">
          {total} {kind}
          {at && `, as of ${moment(unix(at), now)}`}
        </span>
      </p>
      <table className="w-full border-collapse font-dense text-sm">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2">
            <th scope="col" className="py-1 pr-4 font-normal">
              name
            </th>
            {columns.map((c) => (
              <th key={c} scope="col" className="pr-4 font-normal">
                {c.replaceAll("_", " ")}
              </th>
            ))}
            <th scope="col" className="font-normal">
              since
            </th>
          </tr>
        </thead>
        <tbody>
          {items.slice(0, 500).map((item: Item) => (
            <tr key={`${item.scope} ${item.name}`} className="border-base-300 border-b align-top">
              <td className="max-w-96 break-words py-0.5 pr-4 font-semibold">{item.name}</td>
              {columns.map((c) => (
                <td key={c} className="max-w-72 break-words py-0.5 pr-4">
                  {shown((item as Record<string, unknown>)[c])}
                </td>
              ))}
              <td className="whitespace-nowrap py-0.5 text-ink-2">{item.since ? moment(unix(item.since), now) : ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {items.length > 500 && (
        <p className="text-ink-2 text-sm">and {total - 500} more: narrow it by a part of a name</p>
      )}
    </section>
  );
}

function shown(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (value === true) return "yes";
  if (value === false) return "no";
  return Array.isArray(value) ? value.join(", ") : String(value);
}
