import { duration, moment, plural, withUnit } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Signal } from "../ui/Signal";

interface RehearsalQuery {
  data?: Awaited<ReturnType<typeof rehearsalType>> | undefined;
  error: unknown;
  isFetching: boolean;
}
declare function rehearsalType(): Promise<import("../api/client").Schemas["Rehearsal"]>;

/** When the rule would have opened. */
export function Rehearsed({
  complete,
  query,
  days,
  setDays,
}: {
  complete: boolean;
  query: RehearsalQuery;
  days: string;
  setDays: (d: string) => void;
}) {
  const { now } = useSpan();
  const data = query.data;
  return (
    <section aria-label="Rehearsal" aria-live="polite">
      <div className="mt-1 mb-2 flex items-center gap-3">
        <h2 className="font-semibold">Rehearsal</h2>
        <select
          aria-label="Over"
          className="select select-xs w-32"
          value={days}
          onChange={(e) => setDays(e.target.value)}
        >
          <option value="-3h">last 3 hours</option>
          <option value="-24h">last 24 hours</option>
          <option value="-7d">last 7 days</option>
        </select>
        {query.isFetching && <span className="text-ink-2 text-sm">running it over history …</span>}
      </div>
      {!complete && (
        <p className="text-ink-2">
          Fill in what it is about, a metric and at least one limit: you then see when it would have opened.
        </p>
      )}
      {complete && query.error instanceof Error && <p className="text-error text-sm">{query.error.message}</p>}
      {complete && data && !query.error && (
        <>
          <p className="mb-2">
            {data.items.length === 0
              ? `It would not have opened, on ${plural(data.groups, "thing")} it watches.`
              : `It would have opened ${plural(data.items.length + data.left_out, "time")}, on ${plural(data.groups, "thing")} it watches.`}
          </p>
          <ul
            className="hairline max-h-[60vh] overflow-y-auto font-dense text-sm"
            tabIndex={data.items.length > 12 ? 0 : -1}
          >
            {[...data.items].reverse().map((item) => (
              <li
                key={`${item.host}${item.opened_at}${JSON.stringify(item.attributes)}`}
                className="grid grid-cols-[20px_1fr_auto] gap-x-2 py-1"
              >
                <Signal state={item.severity === "critical" ? "critical" : "warning"} size={15} label={item.severity} />
                <span className="grow-cell">
                  <span className="font-semibold">{item.host}</span>{" "}
                  <span className="text-ink-2">{Object.values(item.attributes).join(" ")}</span>
                </span>
                <span className="text-right text-ink-2">{withUnit(item.worst_value, data.unit)}</span>
                <span />
                <span className="col-span-2 text-ink-2">
                  {moment(item.opened_at, now)},{" "}
                  {item.recovered_at ? `for ${duration(item.recovered_at - item.opened_at)}` : "still open"}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
