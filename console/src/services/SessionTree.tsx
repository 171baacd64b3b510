import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { clock, duration, plural, unix } from "../lib/format";
import { instant } from "../lib/span";
import { Signal } from "../ui/Signal";

/** Who is at work in a service, and who blocks whom: the head of each chain first, those that wait below it. */
export function SessionTree({
  number,
  at,
  chains,
}: {
  number: number;
  at: number | undefined;
  /** Whether to show chains of blocked sessions, which stand above everything else, or sessions without any. */
  chains: boolean;
}) {
  const [whole, setWhole] = useState(false);
  const sessions = useQuery({
    queryKey: ["sessions", number, at ? Math.floor(at) : 0],
    queryFn: () =>
      got(
        api.GET("/api/v1/services/{number}/sessions", {
          params: { path: { number }, query: at ? { at: instant(at) } : {} },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: at ? false : 10_000,
    retry: false,
  });
  const items = sessions.data?.items ?? [];
  if (!sessions.data?.at) return null;
  const waiting = items.filter((s) => s.depth > 0);
  const roots = items.filter((s) => s.root === s.id);
  const head = roots[0];
  const involved = chains ? items.filter((s) => s.root) : items;
  const shown = involved.slice(0, whole ? 60 : 8);
  if (waiting.length > 0 !== chains) return null;
  return (
    <section
      aria-label={chains ? "Who blocks whom" : "Sessions at work"}
      className={chains ? "mb-3 border-state-critical border-l-4 pl-3" : "mt-4"}
    >
      <h2 className="font-semibold">
        {head && waiting.length
          ? `${plural(waiting.length, "session")} wait for ${head.application || head.user} (session ${head.id})`
          : plural(items.length, "session at work", "sessions at work")}
        <span className="font-normal text-ink-2 text-sm">, at {clock(unix(sessions.data.at), true)}</span>
      </h2>
      <table className="w-full table-fixed border-collapse font-dense text-sm">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2">
            <th scope="col" className="w-64 py-1 font-normal">
              session
            </th>
            <th scope="col" className="w-44 font-normal">
              user, from
            </th>
            <th scope="col" className="w-24 text-right font-normal">
              for
            </th>
            <th scope="col" className="w-56 pl-4 font-normal">
              doing
            </th>
            <th scope="col" className="font-normal">
              statement
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((s) => (
            <tr key={s.id} className="border-base-300 border-b align-top">
              <td className="py-1">
                <span style={{ paddingLeft: s.depth * 16 }}>
                  {s.root === s.id ? (
                    <Signal state="critical" size={15} label="holds the others" />
                  ) : s.depth > 0 ? (
                    <span className="text-ink-2">└ </span>
                  ) : null}{" "}
                  <span className="font-semibold">{s.application || s.user || "session"}</span>{" "}
                  <span className="text-ink-2">{s.id}</span>
                </span>
              </td>
              <td className="grow-cell py-1">
                {s.user}, {s.client}
              </td>
              <td className="whitespace-nowrap py-1 text-right">{duration(s.seconds)}</td>
              <td className="py-1 pl-4 text-ink-2">
                {s.root === s.id && waiting.length ? `holds ${plural(waiting.length, "other")}, ` : ""}
                {s.state}
              </td>
              <td className="grow-cell py-1" title={s.statement}>
                {s.statement}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {involved.length > shown.length && (
        <button type="button" className="btn btn-ghost btn-xs mt-1" onClick={() => setWhole(true)}>
          and {involved.length - shown.length} more
        </button>
      )}
    </section>
  );
}
