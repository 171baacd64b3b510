import { queryOptions } from "@tanstack/react-query";
import { api, got, type RuleDocument, type Schemas } from "../api/client";
import { KEPT_TAKES } from "../lib/queries";

export type Course = Schemas["ForecastAnswer"]["series"][number];
type Watching = Pick<RuleDocument, "measure" | "limits">;

/** What a rule lets run out; undefined for a rule of another kind. */
function limitOf(rule: Watching) {
  const limit = rule.limits.warning ?? rule.limits.critical;
  return limit?.runs_out_within && rule.measure.metric ? limit : undefined;
}

export function watchesRunningOut(rule: Watching): boolean {
  return limitOf(rule) !== undefined;
}

/** When that which a rule about running out watches will, by where it goes now. */
export function forecastOf(rule: Watching, ahead: string) {
  const { measure } = rule;
  const limit = limitOf(rule);
  return queryOptions({
    queryKey: ["forecast", measure, limit?.at, ahead],
    queryFn: () =>
      got(
        api.POST("/api/v1/metrics/forecast", {
          body: {
            metric: measure.metric ?? "",
            where: measure.where ?? null,
            by: measure.each ?? ["host"],
            at: limit?.at ?? 1,
            horizon: ahead,
            take: KEPT_TAKES.find((one) => one === measure.take) ?? "avg",
          },
        }),
      ),
    enabled: limit !== undefined,
    staleTime: 300_000,
    retry: false,
  });
}

/** Those that will run out, the soonest first. */
export function soonest(series: Course[], most: number): Course[] {
  return series
    .filter((one) => one.reaches_at !== null)
    .sort((a, b) => (a.reaches_at ?? 0) - (b.reaches_at ?? 0))
    .slice(0, most);
}
