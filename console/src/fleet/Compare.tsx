import { useQueries } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Host } from "../api/client";
import { plural } from "../lib/format";
import { useSpan, withSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { compared } from "./facts";

const MOST = 8;

/** Facts of chosen hosts side by side, with what differs marked. */
export function Component() {
  const [parameters] = useSearchParams();
  const { now } = useSpan();
  const [onlyDifferent, setOnlyDifferent] = useState(false);
  const names = (parameters.get("hosts") ?? "").split(",").filter(Boolean);
  const shown = names.slice(0, MOST);
  const answers = useQueries({
    queries: shown.map((name) => ({
      queryKey: ["hosts", "one", name],
      queryFn: () => got(api.GET("/api/v1/hosts/{name}", { params: { path: { name } } })),
      retry: false,
    })),
  });
  const failed = answers.find((a) => a.isError);
  const hosts = answers.map((a) => a.data).filter((h): h is Host => h !== undefined);
  const rows = compared(hosts, now).filter((r) => r.values.some(Boolean));
  const different = rows.filter((r) => r.differs);
  return (
    <>
      <div className="mb-3 flex items-baseline gap-5">
        <h1 className="font-semibold text-xl">
          {hosts.length < shown.length
            ? `Comparing ${plural(shown.length, "host")}`
            : different.length
              ? `${plural(shown.length, "host")} differ in ${different.length} of ${rows.length} facts`
              : `${plural(shown.length, "host")} do not differ`}
        </h1>
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={onlyDifferent}
            onChange={(e) => setOnlyDifferent(e.target.checked)}
          />
          Only what differs
        </label>
        <Link className="link text-sm" to={withSpan("/fleet", parameters)}>
          Choose others
        </Link>
        {names.length > MOST && (
          <span className="text-ink-2 text-sm">
            the first {MOST} of {names.length} chosen
          </span>
        )}
      </div>
      {names.length < 2 && (
        <Empty title="Choose two hosts or more">Mark them in the fleet's table, then Compare.</Empty>
      )}
      {failed && <Failure error={failed.error} />}
      {!failed && hosts.length < shown.length && <Waiting what="the hosts" lines={12} />}
      {hosts.length === shown.length && hosts.length > 1 && (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region has to be reached by keyboard
        <section className="overflow-x-auto" aria-label="Facts side by side" tabIndex={0}>
          <table className="border-collapse font-dense">
            <thead>
              <tr className="border-base-300 border-b text-left align-bottom">
                <th scope="col" className="py-1 pr-5 font-normal text-ink-2 text-sm">
                  fact
                </th>
                {hosts.map((h) => (
                  <th key={h.name} scope="col" className="min-w-40 max-w-64 py-1 pr-5">
                    <Link
                      className="flex items-center gap-1 hover:underline"
                      to={`/fleet/${encodeURIComponent(h.name)}`}
                    >
                      <Signal state={h.state} size={16} />
                      {h.name}
                    </Link>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows
                .filter((r) => !onlyDifferent || r.differs)
                .map((r) => (
                  <tr key={r.fact.key} className="border-base-300 border-b align-top">
                    <th scope="row" className="py-1 pr-5 text-left font-normal text-ink-2">
                      {r.fact.name}
                      {r.differs && (
                        <span className="ml-1 text-primary" title="they differ">
                          ≠
                        </span>
                      )}
                    </th>
                    {r.values.map((value, i) => (
                      <td
                        key={hosts[i]?.name}
                        className={`max-w-64 break-words py-1 pr-5 ${r.odd[i] ? "border-primary border-l-3 bg-base-200 pl-2 font-semibold" : r.differs ? "pl-2.5" : "pl-2.5 text-ink-2"}`}
                      >
                        {value || "–"}
                        {r.odd[i] && <span className="sr-only"> (unlike the others)</span>}
                      </td>
                    ))}
                  </tr>
                ))}
            </tbody>
          </table>
        </section>
      )}
    </>
  );
}
