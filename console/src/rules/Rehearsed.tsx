import { duration, moment, plural, withUnit } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Signal } from "../ui/Signal";
import { type Handle, RuleChart } from "./RuleChart";
import { WeekHours } from "./WeekHours";

interface RehearsalQuery {
  data?: Awaited<ReturnType<typeof rehearsalType>> | undefined;
  error: unknown;
  isFetching: boolean;
}
declare function rehearsalType(): Promise<import("../api/client").Schemas["Rehearsal"]>;

/** `3 a day`, `2 a week`: how often that is, in words that need no sums. */
function pace(aDay: number): string {
  return aDay >= 1 ? `${aDay.toFixed(aDay < 10 ? 1 : 0)} a day` : `${(aDay * 7).toFixed(1)} a week`;
}

/** When the rule would have opened. */
export function Rehearsed({
  complete,
  lacks,
  query,
  days,
  setDays,
  handles,
  move,
}: {
  complete: boolean;
  /** What has to be done before it can be rehearsed. */
  lacks: string;
  query: RehearsalQuery;
  days: string;
  setDays: (d: string) => void;
  /** The limits as lines on the chart, and what happens when one is dragged. */
  handles: Handle[];
  move?: ((severity: Handle["severity"], value: number) => void) | undefined;
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
          <option value="-30d">last 30 days</option>
        </select>
        {query.isFetching && <span className="text-ink-2 text-sm">running it over history …</span>}
      </div>
      {!complete && <p className="text-ink-2">{lacks}</p>}
      {complete && query.error instanceof Error && <p className="text-error text-sm">{query.error.message}</p>}
      {complete && data && !query.error && (
        <>
          {data.points && (
            <RuleChart points={data.points} opened={data.items} unit={data.unit} handles={handles} move={move} />
          )}
          <p className="mt-2 mb-2">
            {data.opened === 0
              ? `It would not have opened, on ${plural(data.groups, "thing")} it watches.`
              : `It would have opened ${plural(data.opened, "time")}, ${pace(data.a_day)}, on ${plural(data.groups, "thing")} it watches.`}{" "}
            {data.compared && (
              <span className="text-ink-2">
                The version in force: {plural(data.compared.opened, "time")}, open for{" "}
                {duration(data.compared.open_seconds)} in all (this one {duration(data.open_seconds)}).
              </span>
            )}
          </p>
          {data.notes?.map((note) => (
            <p key={note} className="mb-1 text-ink-2 text-sm">
              {note}
            </p>
          ))}
          {data.opened > 3 && <WeekHours counts={data.by_hour} label="When it would have opened" />}
          <ul
            className="hairline max-h-[40vh] overflow-y-auto font-dense text-sm"
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
