import type { Rule, Schemas } from "../api/client";

export const MEASURES = ["metric", "values", "events", "alerts"] as const;
export const KINDS = ["above", "below", "outside", "unusual", "runs out", "missing", "first seen"] as const;
export type Kind = (typeof KINDS)[number];

/** A rule as the form holds it: everything text, as typed. */
export interface RuleForm {
  name: string;
  about: string;
  hosts: string;
  measures: string;
  metric: string;
  where: string;
  values: string;
  compute: string;
  events: string;
  text: string;
  count: string;
  of: string;
  alerts: string;
  each: string;
  take: string;
  over: string;
  kind: string;
  warning: string;
  warningHold: string;
  warningClear: string;
  critical: string;
  criticalHold: string;
  criticalClear: string;
  side: string;
  by: string;
  at: string;
  memory: string;
  flaps: string;
  advice: string;
  enabled: boolean;
  why: string;
}

export const BLANK: RuleForm = {
  name: "",
  about: "",
  hosts: "",
  measures: "metric",
  metric: "",
  where: "",
  values: "",
  compute: "",
  events: "",
  text: "",
  count: "all",
  of: "",
  alerts: "",
  each: "host",
  take: "avg",
  over: "2m",
  kind: "above",
  warning: "",
  warningHold: "5m",
  warningClear: "",
  critical: "",
  criticalHold: "1m",
  criticalClear: "",
  side: "above",
  by: "",
  at: "",
  memory: "30d",
  flaps: "4",
  advice: "",
  enabled: true,
  why: "",
};

type Limit = NonNullable<Rule["limits"]["warning"]>;
type Sent = NonNullable<Schemas["RuleChange"]["limits"]["warning"]>;
type SentValues = NonNullable<Schemas["RuleChange"]["measure"]["values"]>;

const KEYS: Record<Kind, keyof Limit> = {
  above: "above",
  below: "below",
  outside: "outside",
  unusual: "unusual",
  "runs out": "runs_out_within",
  missing: "missing_for",
  "first seen": "first_seen",
};

const text = (value: unknown): string => {
  if (value === null || value === undefined) return "";
  return Array.isArray(value) ? value.join(" to ") : String(value);
};

export function kindOf(limit: Limit | null | undefined): Kind {
  return KINDS.find((kind) => limit && limit[KEYS[kind]] !== null && limit[KEYS[kind]] !== undefined) ?? "above";
}

/** `bad = rate of http.errors where route eq "/"`, a line each. */
function valuesText(values: Rule["measure"]["values"]): string {
  return Object.entries(values ?? {})
    .map(([name, v]) => `${name} = ${v.take ?? "last"} of ${v.metric}${v.where ? ` where ${v.where}` : ""}`)
    .join("\n");
}

function valuesOf(lines: string): SentValues {
  const found: SentValues = {};
  for (const line of lines.split("\n")) {
    const parts = /^\s*(\w+)\s*=\s*(?:(\w+)\s+of\s+)?(\S+)(?:\s+where\s+(.+))?$/.exec(line);
    if (parts?.[1] && parts[3]) {
      found[parts[1]] = {
        metric: parts[3],
        take: (parts[2] ?? "last") as SentValues[string]["take"],
        where: parts[4] ?? null,
      };
    }
  }
  return found;
}

export function formOf(rule: Pick<Rule, keyof Schemas["RuleChange"] & keyof Rule> & { name: string }): RuleForm {
  const { warning, critical } = rule.limits;
  const either = warning ?? critical;
  const { measure } = rule;
  const kind = kindOf(either);
  return {
    name: rule.name,
    about: rule.about,
    hosts: rule.hosts ?? "",
    measures: MEASURES.find((one) => text(measure[one]) !== "") ?? "metric",
    metric: measure.metric ?? "",
    where: measure.where ?? "",
    values: valuesText(measure.values),
    compute: measure.compute ?? "",
    events: measure.events ?? "",
    text: measure.text ?? "",
    count: measure.of ? "different" : measure.pattern === "new" ? "new patterns" : measure.pattern ? "patterns" : "all",
    of: measure.of ?? "",
    alerts: measure.alerts ?? "",
    each: (measure.each ?? []).join(", "),
    take: measure.take ?? "last",
    over: measure.over ?? "1m",
    kind,
    warning: text(warning?.[KEYS[kind]]),
    warningHold: warning?.hold ?? "0s",
    warningClear: text(warning?.clear),
    critical: text(critical?.[KEYS[kind]]),
    criticalHold: critical?.hold ?? "0s",
    criticalClear: text(critical?.clear),
    side: either?.side ?? "both",
    by: text(either?.by),
    at: text(either?.at),
    memory: either?.memory ?? "30d",
    flaps: text(rule.flaps_after ?? 4),
    advice: rule.advice ?? "",
    enabled: rule.enabled ?? true,
    why: "",
  };
}

const numbers = (said: string): number[] => said.split(/\s+to\s+|[\s,;]+/).map(Number);

/** A number, two of them, or a time, as the kind of limit has it. */
function bound(kind: Kind, said: string): unknown {
  if (kind === "outside") return numbers(said);
  if (kind === "runs out" || kind === "missing") return said.trim();
  return kind === "first seen" ? true : Number(said);
}

function limit(form: RuleForm, said: string, hold: string, clear: string): Sent | null {
  const kind = form.kind as Kind;
  if (!said.trim()) return null;
  const cleared = kind === "outside" ? numbers(clear) : kind === "runs out" ? clear.trim() : Number(clear);
  return {
    [KEYS[kind]]: bound(kind, said),
    hold: hold.trim() || "0s",
    ...(clear.trim() && kind !== "missing" && kind !== "first seen" ? { clear: cleared } : {}),
    ...(kind === "unusual" ? { side: form.side, by: form.by.trim() ? Number(form.by) : null } : {}),
    ...(kind === "runs out" && form.at.trim() ? { at: Number(form.at) } : {}),
    ...(kind === "first seen" ? { memory: form.memory } : {}),
  } as Sent;
}

/** A limit as another, with the bound that is typed; what would contradict it goes. */
export function limitOf(kind: Kind, said: string, like: Limit | null | undefined): Sent {
  const { clear: _, ...rest } = like ?? {};
  return { ...rest, [KEYS[kind]]: bound(kind, said) } as Sent;
}

function measureOf(form: RuleForm): Schemas["RuleChange"]["measure"] {
  const each = form.each
    .split(",")
    .map((e) => e.trim())
    .filter(Boolean);
  const shared = { each, over: form.over.trim() || null };
  if (form.measures === "values") return { ...shared, values: valuesOf(form.values), compute: form.compute.trim() };
  if (form.measures === "alerts") return { ...shared, alerts: form.alerts.trim(), take: "count" };
  if (form.measures === "events") {
    const different = form.count === "different";
    return {
      ...shared,
      events: form.events.trim(),
      text: form.text.trim() || null,
      take: different ? "distinct" : "count",
      of: different ? form.of.trim() : null,
      pattern: form.count === "new patterns" ? "new" : form.count === "patterns" ? "more" : null,
    };
  }
  return {
    ...shared,
    metric: form.metric.trim(),
    where: form.where.trim() || null,
    take: form.take as Schemas["RuleChange"]["measure"]["take"],
  };
}

export function bodyOf(form: RuleForm): Schemas["RuleChange"] {
  return {
    about: form.about,
    hosts: form.hosts.trim() || null,
    measure: measureOf(form),
    limits: {
      warning: limit(form, form.warning, form.warningHold, form.warningClear),
      critical: limit(form, form.critical, form.criticalHold, form.criticalClear),
    },
    flaps_after: Number(form.flaps) || 0,
    advice: form.advice,
    enabled: form.enabled,
    why: form.why,
  };
}

/** The rule without why it is as it is, for a rehearsal. */
export function ruleOf(form: RuleForm): Schemas["Rehearse"]["rule"] {
  const { why: _, ...rule } = bodyOf(form);
  return { ...rule, ...(form.name ? { rule: form.name } : {}) };
}

/** How points are put together, and how that reads. */
export const TAKE_WORDS = [
  ["avg", "average"],
  ["min", "lowest"],
  ["max", "highest"],
  ["sum", "sum"],
  ["count", "number of points"],
  ["last", "last value"],
  ["rate", "rate"],
  ["change", "change"],
  ["p50", "median"],
  ["p90", "90th percentile"],
  ["p95", "95th percentile"],
  ["p99", "99th percentile"],
] as const;
/** What of events is counted. */
export const COUNT_WORDS = [
  ["all", "the number of events"],
  ["different", "the number of different"],
  ["new patterns", "the number of events of new patterns"],
  ["patterns", "how many times as usual events of a pattern came"],
] as const;
export const KIND_WORDS: readonly (readonly [Kind, string])[] = [
  ["above", "is above"],
  ["below", "is below"],
  ["outside", "is outside of"],
  ["unusual", "is unusual:"],
  ["runs out", "will reach"],
  ["missing", "is not heard for"],
  ["first seen", "is seen for the first time"],
];
export const SEVERITIES = ["warning", "critical"] as const;

/** Whether there is enough of a rule to rehearse it. */
export function isComplete(form: RuleForm): boolean {
  const measured = form.measures === "values" ? form.compute : form[form.measures as "metric" | "events" | "alerts"];
  return Boolean(measured.trim() && form.about.trim() && (form.warning.trim() || form.critical.trim()));
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

/** Whether the form holds all that a rule says; if not, it is changed as text. */
export function holdsAll({
  limits: { warning, critical },
  filter,
}: Pick<Schemas["Rehearse"]["rule"], "limits" | "filter">): boolean {
  const both = warning && critical;
  const shared = ["side", "by", "at", "memory"] as const;
  return !filter && (!both || shared.every((key) => text(warning[key]) === text(critical[key])));
}
/** What is written for each kind of limit, and how it reads. */
export const SAYS: Record<Kind, { label: string; hint: string }> = {
  above: { label: "above", hint: "a number, in the unit of what is measured" },
  below: { label: "below", hint: "a number, in the unit of what is measured" },
  outside: { label: "outside", hint: "two numbers, like 10 to 90" },
  unusual: { label: "deviations", hint: "from what is usual at this hour of the week, like 6" },
  "runs out": { label: "within", hint: "by its trend, like 3d" },
  missing: { label: "missing for", hint: "not heard for so long, like 10m" },
  "first seen": { label: "yes", hint: "what was not seen before is told" },
};
