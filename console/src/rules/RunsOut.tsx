import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { RuleDocument } from "../api/client";
import { duration, moment } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { type Course, forecastOf, soonest, watchesRunningOut } from "./forecasts";

const AHEAD = "30d";

/** What runs out next of that which a rule about running out watches, however far off its limits are. */
export function RunsOut({ rule }: { rule: RuleDocument }) {
  const answer = useQuery(forecastOf(rule, AHEAD));
  if (!watchesRunningOut(rule) || !answer.data) return null;
  const next = soonest(answer.data.series, 8);
  return (
    <section aria-label="What runs out next">
      <h2 className="mb-1 font-semibold">What runs out next</h2>
      {next.length === 0 && <p className="text-ink-2">Nothing within {AHEAD}, by where it goes now.</p>}
      <Courses courses={next} />
    </section>
  );
}

/** What will run out and when, a line each. */
export function Courses({ courses }: { courses: Course[] }) {
  const { now } = useSpan();
  return (
    <ul className="hairline font-dense text-sm">
      {courses.map(({ attributes, reaches_at, earliest, latest }) => (
        <li key={JSON.stringify(attributes)} className="flex justify-between gap-3 py-1">
          <span>
            {attributes.host && (
              <Link className="link touch font-semibold" to={`/fleet/${encodeURIComponent(attributes.host)}`}>
                {attributes.host}
              </Link>
            )}{" "}
            {Object.entries(attributes)
              .filter(([name]) => name !== "host")
              .map(([, value]) => value)
              .join(" ")}
          </span>
          <span className="text-right text-ink-2">
            in <span className="font-semibold text-base-content">{duration((reaches_at ?? now) - now)}</span>
            {earliest !== null && latest !== null && `, between ${moment(earliest, now)} and ${moment(latest, now)}`}
          </span>
        </li>
      ))}
    </ul>
  );
}
