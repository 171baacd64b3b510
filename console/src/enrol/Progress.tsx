import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { plural } from "../lib/format";
import { useMay } from "../signin/session";
import { Failure, Waiting } from "../ui/Note";
import { inOrderOfWork, isGood, RESULT_WORDS } from "./results";

type Entry = Schemas["TestedEntry"];
type Change = Partial<Pick<Entry, "address" | "port" | "credential" | "name">>;

/** How testing a list goes: kept by the service, so a reload finds it as it is. */
export function Component() {
  const id = Number(useParams().id);
  const client = useQueryClient();
  const list = useQuery({
    queryKey: ["enrolment", id],
    queryFn: () => got(api.GET("/api/v1/enrolments/{number}", { params: { path: { number: id } } })),
    refetchInterval: (query) => (query.state.data?.state === "done" ? false : 5_000),
  });
  const testing = list.data?.state === "testing";
  useEffect(() => {
    if (!testing) return undefined;
    const source = new EventSource(`/api/v1/enrolments/${id}/live`);
    source.addEventListener("enrolment", (e) => {
      const answer = JSON.parse((e as MessageEvent<string>).data) as Schemas["Enrolment"];
      client.setQueryData(["enrolment", id], answer);
      if (answer.state === "done") {
        source.close();
        client.invalidateQueries({ queryKey: ["hosts"] }).catch(() => undefined);
      }
    });
    return () => source.close();
  }, [client, id, testing]);
  if (list.isError) return <Failure error={list.error} />;
  if (!list.data) return <Waiting what="the list" lines={8} />;
  return <Tested list={list.data} again={() => list.refetch()} />;
}

function Tested({ list, again }: { list: Schemas["Enrolment"]; again: () => Promise<unknown> }) {
  const may = useMay("operator");
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const [changes, setChanges] = useState<Record<number, Change>>({});
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const bad = list.entries.filter((e) => e.result !== null && !isGood(e.result));
  const retry = () => {
    setBusy(true);
    setError(undefined);
    const entries = bad
      .filter((e) => changes[e.position])
      .map((e) => {
        const { name, address, port, protocol, credential, labels, group, site, position } = {
          ...e,
          ...changes[e.position],
        };
        return {
          name: name === e.address ? null : name,
          address,
          port,
          protocol,
          credential,
          labels,
          group,
          site,
          position,
          mode: "remote" as const,
          host_key: "",
        };
      });
    got(api.POST("/api/v1/enrolments/{number}/retry", { params: { path: { number: list.id } }, body: { entries } }))
      .then(() => setChanges({}))
      .then(again)
      .catch(setError)
      .finally(() => setBusy(false));
  };
  const added = list.results.added ?? 0;
  return (
    <>
      <div className="mb-2 flex items-baseline gap-4">
        <h1 className="font-semibold text-xl">
          {list.state === "testing"
            ? `Testing ${plural(list.total, "host")}: ${list.tested} done`
            : bad.length
              ? `${plural(bad.length, "host")} to put right, ${added} added`
              : `All ${list.total} are here, ${added} added now`}
        </h1>
        <Link className="link text-sm" to="/enrol?way=list">
          Another list
        </Link>
        <Link className="link text-sm" to="/fleet">
          To the fleet
        </Link>
      </div>
      <Bar list={list} />
      {may && list.state === "done" && bad.length > 0 && (
        <div className="my-3 flex items-center gap-3">
          <button type="button" className="btn btn-primary btn-sm" disabled={busy} onClick={retry}>
            Try {plural(bad.length, "host")} again
          </button>
          <span className="text-ink-2 text-sm">
            {Object.keys(changes).length
              ? `${Object.keys(changes).length} of them as you corrected it`
              : "correct them in the table first, or try them as they are"}
          </span>
        </div>
      )}
      {error !== undefined && <Failure error={error} />}
      <table className="w-full table-fixed border-collapse font-dense">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
            {[
              ["result", "w-36"],
              ["host", "w-40"],
              ["address", "w-44"],
              ["port", "w-24"],
              ["credential", "w-40"],
              ["what was found", ""],
            ].map(([name, width]) => (
              <th key={name} scope="col" className={`py-1 pr-3 font-normal ${width}`}>
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {inOrderOfWork(list.entries)
            .slice(0, 400)
            .map((e) => (
              <Row
                key={e.position}
                entry={e}
                change={changes[e.position]}
                editable={may && list.state === "done" && e.result !== null && !isGood(e.result)}
                credentials={(credentials.data?.items ?? []).filter((c) => c.kind === e.protocol).map((c) => c.name)}
                set={(change) => setChanges((held) => ({ ...held, [e.position]: { ...held[e.position], ...change } }))}
              />
            ))}
        </tbody>
      </table>
      {list.entries.length > 400 && (
        <p className="py-2 text-ink-2 text-sm">
          and {list.entries.length - 400} more, which are good or still being tested
        </p>
      )}
    </>
  );
}

/** Good ones low, bad ones full height, what is not tested yet a hairline: read without colour. */
function Bar({ list }: { list: Schemas["Enrolment"] }) {
  const good = (list.results.added ?? 0) + (list.results["already-enrolled"] ?? 0);
  const bad = list.tested - good;
  const share = (count: number) => `${(100 * count) / Math.max(1, list.total)}%`;
  return (
    <div
      className="mb-1 flex h-3.5 items-end border-base-300 border-b"
      role="progressbar"
      aria-label="Tested"
      aria-valuenow={list.tested}
      aria-valuemin={0}
      aria-valuemax={list.total}
    >
      <span className="block h-full bg-state-critical" style={{ width: share(bad) }} />
      <span className="block h-1.5 bg-state-ok" style={{ width: share(good) }} />
    </div>
  );
}

function Row({
  entry,
  change,
  editable,
  credentials,
  set,
}: {
  entry: Entry;
  change: Change | undefined;
  editable: boolean;
  credentials: string[];
  set: (change: Change) => void;
}) {
  const tone = entry.result === null ? "text-ink-2" : isGood(entry.result) ? "text-state-ok" : "text-state-critical";
  const address = change?.address ?? entry.address;
  const port = change?.port ?? entry.port;
  const credential = change?.credential ?? entry.credential;
  return (
    <tr className="border-base-300 border-b align-top">
      <td className={`py-1.5 pr-3 font-semibold ${tone}`}>
        {entry.result === null ? "testing …" : RESULT_WORDS[entry.result]}
      </td>
      <td className="break-words py-1.5 pr-3">
        {entry.host ? (
          <Link className="font-semibold hover:underline" to={`/fleet/${encodeURIComponent(entry.host)}`}>
            {entry.host}
          </Link>
        ) : (
          entry.name
        )}
      </td>
      <td className="py-1.5 pr-3">
        {editable ? (
          <input
            className="input input-xs w-full"
            aria-label={`Address of ${entry.name}`}
            value={address}
            onChange={(e) => set({ address: e.target.value })}
          />
        ) : (
          entry.address
        )}
      </td>
      <td className="py-1.5 pr-3">
        {editable ? (
          <input
            className="input input-xs w-full"
            type="number"
            min={1}
            max={65535}
            aria-label={`Port of ${entry.name}`}
            value={port}
            onChange={(e) => set({ port: Number(e.target.value) })}
          />
        ) : (
          entry.port
        )}
      </td>
      <td className="py-1.5 pr-3">
        {editable ? (
          <select
            className="select select-xs w-full"
            aria-label={`Credential of ${entry.name}`}
            value={credential}
            onChange={(e) => set({ credential: e.target.value })}
          >
            {[...new Set([credential, ...credentials])].map((c) => (
              <option key={c}>{c}</option>
            ))}
          </select>
        ) : (
          entry.credential
        )}
      </td>
      <td className="break-words py-1.5">{entry.message}</td>
    </tr>
  );
}
