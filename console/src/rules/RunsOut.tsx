import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got, type RuleDocument } from "../api/client";
import { duration, moment } from "../lib/format";
import { KEPT_TAKES } from "../lib/queries";
import { useSpan } from "../lib/useSpan";

const AHEAD = "30d";

/** What runs out next of that which a rule about running out watches, however far off its limits are. */
export function RunsOut({ rule }: { rule: RuleDocument }) {
  const { now } = useSpan();
  const { measure } = rule;
  const limit = rule.limits.warning ?? rule.limits.critical;
  const take = KEPT_TAKES.find((one) => one === measure.take) ?? "avg";
  const asked = Boolean(limit?.runs_out_within && measure.metric);
  const answer = useQuery({
    queryKey: ["forecast", measure, limit?.at],
    queryFn: () =>
      got(
        api.POST("/api/v1/metrics/forecast", {
          body: {
            metric: measure.metric ?? "",
            where: measure.where ?? null,
            by: measure.each ?? ["host"],
            at: limit?.at ?? 1,
            horizon: AHEAD,
            take,
          },
        }),
      ),
    enabled: asked,
    staleTime: 300_000,
    retry: false,
  });
  if (!asked || !answer.data) return null;
  const next = answer.data.series.filter((one) => one.reaches_at !== null).slice(0, 8);
  return (
    <section aria-label="What runs out next">
      <h2 className="mb-1 font-semibold">What runs out next</h2>
      {next.length === 0 && <p className="text-ink-2">Nothing within {AHEAD}, by where it goes now.</p>}
      <ul className="hairline font-dense text-sm">
        {next.map(({ attributes, reaches_at, earliest, latest }) => (
          <li key={JSON.stringify(attributes)} className="flex justify-between gap-3 py-1">
            <span>
              {attributes.host && (
                <Link className="link font-semibold" to={`/fleet/${encodeURIComponent(attributes.host)}`}>
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
    </section>
  );
}
