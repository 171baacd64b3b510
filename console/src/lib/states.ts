import type { Severity, State } from "../api/client";

/** Worst first: the order of every roll-up. `paused` does not count. */
export const STATES: readonly State[] = ["critical", "warning", "silent", "ok", "paused"];

/** How tall a state stands in ribbons and bars, so that it reads without colour. */
export const HEIGHT: Record<State, number> = { critical: 1, warning: 0.62, silent: 0.2, ok: 0.38, paused: 0.5 };

/** Where a state stands in the order, the worst first. */
export function rank(state: State): number {
  return STATES.indexOf(state);
}

export const COLOUR: Record<State, string> = {
  ok: "var(--state-ok)",
  warning: "var(--state-warning)",
  critical: "var(--state-critical)",
  silent: "var(--state-silent)",
  paused: "var(--state-paused)",
};

/** The three weights in which lanes show severities. */
export function weight(severity: Severity): "grave" | "warning" | "rest" {
  if (["emergency", "alert", "critical", "error"].includes(severity)) return "grave";
  return severity === "warning" ? "warning" : "rest";
}

export const WEIGHT_STATE: Record<"grave" | "warning", State> = { grave: "critical", warning: "warning" };
