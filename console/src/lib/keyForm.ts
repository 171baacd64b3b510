import type { Schemas } from "../api/client";

export const TIMES = [
  ["1h", "1 hour"],
  ["24h", "1 day"],
  ["7d", "7 days"],
  ["30d", "30 days"],
] as const;

/** A key for agents as the form holds it. */
export interface AgentKeyForm {
  label: string;
  uses: string;
  expires: string;
  group: string;
  labels: string;
  approval: "automatic" | "manual";
}

/** A key for one server is good for an hour; one for many for a week. */
export function agentKey(many: boolean): AgentKeyForm {
  const usual = many ? { uses: "50", expires: "7d" } : { uses: "1", expires: "1h" };
  return { label: "", group: "", labels: "", approval: "automatic", ...usual };
}

/** `site=northquay role=gate` as labels; words without a sign are no labels. */
export function labelsOf(text: string): Record<string, string> {
  return Object.fromEntries(
    text
      .split(/[\s,]+/)
      .filter((pair) => pair.indexOf("=") > 0)
      .map((pair) => [pair.slice(0, pair.indexOf("=")), pair.slice(pair.indexOf("=") + 1)]),
  );
}

export function agentKeyOf(form: AgentKeyForm): Schemas["NewEnrolmentKey"] {
  return {
    label: form.label,
    uses: Number(form.uses),
    expires_in: form.expires,
    group: form.group || null,
    labels: labelsOf(form.labels),
    approval: form.approval,
  };
}
