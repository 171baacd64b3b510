import type { Schemas } from "../api/client";
import { day, moment, stretch } from "../lib/format";

const DAY = 86_400;
const WEEK = 7 * DAY;
const NAMES = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/** Weeks as rows, a strip for each person in ink and second ink in turn, who stands in for another hatched; today's line
 * in the primary colour. Times are unix seconds. */
export function Weeks({
  start,
  weeks,
  now,
  stretches,
  people,
}: {
  start: number;
  weeks: number;
  now: number;
  stretches: Schemas["DutyStretch"][];
  people: string[];
}) {
  return (
    <div className="my-2 font-dense" role="img" aria-label={`Who is on duty in the next ${weeks} weeks`}>
      <div className="grid grid-cols-[64px_minmax(0,1fr)] text-ink-2 text-sm">
        <span />
        <div className="grid grid-cols-7">
          {NAMES.map((name) => (
            <span key={name}>{name}</span>
          ))}
        </div>
      </div>
      {Array.from({ length: weeks }, (_, i) => start + i * WEEK).map((from) => (
        <div key={from} className="grid grid-cols-[64px_minmax(0,1fr)] border-base-300 border-t">
          <span className="py-1 text-ink-2 text-sm">{day(from + DAY / 2)}</span>
          <div className="relative h-8 bg-[linear-gradient(to_right,var(--color-base-300)_1px,transparent_1px)] bg-[length:14.2857%_100%]">
            {stretches
              .filter((s) => s.start < from + WEEK && s.end > from)
              .map((s) => {
                const left = Math.max(0, (s.start - from) / WEEK);
                const right = Math.min(1, (s.end - from) / WEEK);
                const place = people.indexOf(s.person);
                return (
                  <span
                    key={s.start}
                    title={`${s.person}${s.instead_of ? ` instead of ${s.instead_of}` : ""}, ${stretch(s.start, s.end)}`}
                    className={`absolute top-1 bottom-1 overflow-hidden whitespace-nowrap border-l-4 px-1.5 leading-6 ${
                      s.instead_of
                        ? "hatched border-warning"
                        : place % 2
                          ? "border-ink-2 bg-base-300"
                          : "border-base-content bg-base-200"
                    }`}
                    style={{ left: `${left * 100}%`, width: `${(right - left) * 100}%` }}
                  >
                    <span className={s.instead_of ? "bg-base-100 px-1" : ""}>{s.person}</span>
                  </span>
                );
              })}
            {now >= from && now < from + WEEK && (
              <span
                className="absolute top-0 bottom-0 w-0.5 bg-primary"
                style={{ left: `${((now - from) / WEEK) * 100}%` }}
                title={`now, ${moment(now, now)}`}
              />
            )}
          </div>
        </div>
      ))}
    </div>
  );
}
