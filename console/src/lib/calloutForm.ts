import type { Schemas } from "../api/client";
import { DAYS, HERE } from "./hours";

export const MOST_STEPS = 10;

/** A callout as the form holds it; `after1`, `tell1` and so on are its steps. */
export interface CalloutForm {
  [field: string]: string | string[];
  name: string;
  when: string;
  always: string;
  from: string;
  to: string;
  zone: string;
  days: string[];
  steps: string;
  again: string;
  gather: string;
  digest: string;
}

export const BLANK_CALLOUT: CalloutForm = {
  name: "",
  when: 'severity ge "critical"',
  always: "yes",
  from: "18:00",
  to: "08:00",
  zone: HERE,
  days: [...DAYS],
  steps: "1",
  tell0: "",
  again: "",
  gather: "10s",
  digest: "",
};

type Steps = Pick<Schemas["Callout"], "steps" | "tell">;

/** The steps of a callout, also where it says whom it tells in one word. */
function stepsOf(callout: Steps): Schemas["Step"][] {
  if (callout.steps?.length) return callout.steps;
  return [{ after: "0s", tell: (callout.tell ?? []).map((name) => `channel:${name}`) }];
}

/** `["at once", "whoever is on duty on the rota booking"]` for each step. */
export function stepWords(callout: Steps): [after: string, whom: string][] {
  return stepsOf(callout).map((step) => [
    /^0+(ms|s|m|h|d|w)$/.test(step.after) ? "at once" : `after ${step.after}`,
    step.tell.map(whom).join(", "),
  ]);
}

/** A target in words. */
export function whom(target: string): string {
  const at = target.indexOf(":");
  const name = target.slice(at + 1);
  return target.startsWith("rota:") ? `whoever is on duty on the rota ${name}` : name;
}

export function formOf(callout: Schemas["Callout"]): CalloutForm {
  const steps = stepsOf(callout);
  const form: CalloutForm = {
    ...BLANK_CALLOUT,
    name: callout.name,
    when: callout.when,
    always: callout.hours ? "no" : "yes",
    ...(callout.hours && { from: callout.hours.from, to: callout.hours.to, zone: callout.hours.zone }),
    days: callout.hours?.days ?? [...DAYS],
    steps: String(steps.length),
    again: callout.again ?? "",
    gather: callout.gather,
    digest: callout.digest ?? "",
  };
  steps.forEach((step, i) => {
    form[`after${i}`] = step.after;
    form[`tell${i}`] = step.tell.join(", ");
  });
  return form;
}

/** Whom a step tells: names parted by commas, each a channel unless it says what it is. */
export function targetsOf(text: string): string[] {
  return text
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean)
    .map((one) => (/^(rota|person|channel):/.test(one) ? one : `channel:${one}`));
}

export function calloutOf(form: CalloutForm): Schemas["CalloutBody"] {
  const text = (name: string) => String(form[name] ?? "").trim();
  const steps = Array.from({ length: Number(form.steps) }, (_, i) => ({
    after: i === 0 ? "0s" : text(`after${i}`) || "0s",
    tell: targetsOf(text(`tell${i}`)),
  }));
  return {
    when: form.when,
    steps,
    tell: [],
    hours:
      form.always === "no"
        ? { from: form.from, to: form.to, zone: form.zone, days: form.days as Schemas["Hours"]["days"] }
        : null,
    again: /^(|never)$/.test(text("again")) ? null : text("again"),
    gather: text("gather") || "10s",
    digest: text("digest") || null,
  };
}
