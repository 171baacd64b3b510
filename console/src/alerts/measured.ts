import type { AlertDetail, Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import type { Ask } from "../lib/queries";
import type { Bound } from "../ui/LaneLines";

/** What an alert's rule measures, as a question about the alert's own values; undefined for what has no points. */
export function askOf(alert: AlertDetail): Ask | undefined {
  const measure = alert.measure as Schemas["Rule"]["measure"];
  const own = [
    ...(alert.host && (measure.each ?? []).includes("host") ? [`host eq ${quoted(alert.host)}`] : []),
    ...Object.entries(alert.attributes).map(([name, value]) => `${name} eq ${quoted(value)}`),
    ...(measure.where ? [`(${measure.where})`] : []),
  ].join(" and ");
  const take = measure.take === "change" || measure.take === "distinct" ? "last" : measure.take;
  return measure.metric ? { metric: measure.metric, where: own, take: take ?? "last", by: [] } : undefined;
}

/** The limits of an alert that can be drawn as lines. */
export function boundsOf(alert: AlertDetail): Bound[] {
  return (["warning", "critical"] as const).flatMap((severity): Bound[] => {
    const limit = (alert.limits as Schemas["Limits"])[severity];
    const value = limit?.above ?? limit?.below;
    return value === undefined || value === null ? [] : [{ value, severity }];
  });
}
