import type { Rule, Schemas } from "../api/client";

/** A rule as the form holds it: everything text, as typed. */
export interface RuleForm {
  name: string;
  about: string;
  hosts: string;
  metric: string;
  where: string;
  each: string;
  take: string;
  over: string;
  direction: "above" | "below";
  warning: string;
  warningHold: string;
  warningClear: string;
  critical: string;
  criticalHold: string;
  criticalClear: string;
  advice: string;
  enabled: boolean;
}

export const BLANK: RuleForm = {
  name: "",
  about: "",
  hosts: "",
  metric: "",
  where: "",
  each: "host",
  take: "avg",
  over: "2m",
  direction: "above",
  warning: "",
  warningHold: "5m",
  warningClear: "",
  critical: "",
  criticalHold: "1m",
  criticalClear: "",
  advice: "",
  enabled: true,
};

const text = (value: number | null | undefined): string => (value === null || value === undefined ? "" : String(value));

export function formOf(rule: Rule): RuleForm {
  const { warning, critical } = rule.limits;
  const either = warning ?? critical;
  return {
    name: rule.name,
    about: rule.about,
    hosts: rule.hosts ?? "",
    metric: rule.measure.metric,
    where: rule.measure.where ?? "",
    each: (rule.measure.each ?? []).join(", "),
    take: rule.measure.take ?? "last",
    over: rule.measure.over ?? "1m",
    direction: either?.below !== null && either?.below !== undefined ? "below" : "above",
    warning: text(warning?.above ?? warning?.below),
    warningHold: warning?.hold ?? "0s",
    warningClear: text(warning?.clear),
    critical: text(critical?.above ?? critical?.below),
    criticalHold: critical?.hold ?? "0s",
    criticalClear: text(critical?.clear),
    advice: rule.advice ?? "",
    enabled: rule.enabled ?? true,
  };
}

function limit(form: RuleForm, bound: string, hold: string, clear: string): Schemas["Limit"] | undefined {
  if (!bound.trim()) return undefined;
  return {
    [form.direction]: Number(bound),
    hold: hold.trim() || "0s",
    ...(clear.trim() ? { clear: Number(clear) } : {}),
  } as Schemas["Limit"];
}

export function bodyOf(form: RuleForm): Schemas["RuleBody"] {
  return {
    about: form.about,
    hosts: form.hosts.trim() || null,
    measure: {
      metric: form.metric.trim(),
      where: form.where.trim() || null,
      each: form.each
        .split(",")
        .map((e) => e.trim())
        .filter(Boolean),
      take: form.take as Schemas["Measure"]["take"],
      over: form.over.trim(),
    },
    limits: {
      warning: limit(form, form.warning, form.warningHold, form.warningClear) ?? null,
      critical: limit(form, form.critical, form.criticalHold, form.criticalClear) ?? null,
    },
    advice: form.advice,
    enabled: form.enabled,
  };
}

export const TAKES = ["avg", "min", "max", "sum", "count", "last", "rate", "p50", "p90", "p95", "p99"] as const;
export const SEVERITIES = ["warning", "critical"] as const;

/** Whether there is enough of a rule to rehearse it. */
export function isComplete(form: RuleForm): boolean {
  return Boolean(form.metric.trim() && form.about.trim() && (form.warning.trim() || form.critical.trim()));
}

/** What the service calls the bound, the hold or the clearing of a limit. */
export function limitPlace(severity: string, part: "" | "Hold" | "Clear"): string {
  return part === "" ? `limits.${severity}` : `${severity}.${part.toLowerCase()}`;
}

/** What a limit's number means for people who do not know the unit by heart. */
export function unitHint(metric: { unit: string } | undefined): string {
  if (metric?.unit === "1") return ": a share, so 0.9 is 90 %";
  return metric?.unit ? `, ${metric.unit}` : "";
}
