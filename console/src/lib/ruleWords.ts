import type { Rule } from "../api/client";
import { withUnit } from "./format";

type Limit = NonNullable<Rule["limits"]["warning"]>;

/** What a rule measures, as people say it. */
export function measureText(measure: Rule["measure"]): string {
  if (measure.metric) return `${measure.take ?? "last"} of ${measure.metric}`;
  if (measure.values) return measure.compute ?? "";
  if (measure.alerts) return `open alerts: ${measure.alerts}`;
  const what = measure.of
    ? `different ${measure.of} of events`
    : measure.pattern === "new"
      ? "new patterns of events"
      : measure.pattern === "more"
        ? "patterns that come more often"
        : "events";
  return measure.events ? `${what}: ${measure.events}` : what;
}

const given = <T>(value: T | null | undefined): value is T => value !== null && value !== undefined;

/** `above 80 %`, `runs out within 3d`, with units as people read them. */
export function limitWords(limit: Limit | null | undefined, unit: string): string {
  if (!limit) return "–";
  const hold = limit.hold && limit.hold !== "0s" ? ` for ${limit.hold}` : "";
  return `${boundWords(limit, unit)}${hold}`;
}

function boundWords(limit: Limit, unit: string): string {
  if (given(limit.above)) return `above ${withUnit(limit.above, unit)}`;
  if (given(limit.below)) return `below ${withUnit(limit.below, unit)}`;
  if (given(limit.outside)) return `outside ${limit.outside.map((v) => withUnit(v, unit)).join(" to ")}`;
  if (given(limit.unusual)) {
    const side = limit.side && limit.side !== "both" ? ` ${limit.side}` : "";
    const by = limit.by ? `, by ${withUnit(limit.by, unit)} at least` : "";
    return `unusual${side}, ${limit.unusual} deviations${by}`;
  }
  if (given(limit.runs_out_within)) return `runs out within ${limit.runs_out_within}`;
  if (given(limit.missing_for)) return `missing for ${limit.missing_for}`;
  return `not seen for ${limit.memory ?? "30d"}`;
}

/** What somebody woken by it reads first: what the limits of a rule are about. */
export const WATCHES = {
  metric: "Metrics",
  values: "Ratios and sums",
  events: "Events",
  alerts: "Alerts",
} as const;

export function watches(measure: Rule["measure"]): keyof typeof WATCHES {
  if (measure.values) return "values";
  if (measure.events) return "events";
  return measure.alerts ? "alerts" : "metric";
}
