import type { Schemas, State, Stretch } from "../api/client";

type Presence = Schemas["PresenceFrom"]["presence"];

const STATE_OF: Record<Presence, State> = { up: "ok", down: "critical", unknown: "silent", maintenance: "paused" };
/** The words of presence for the states that stand for it in ribbons. */
export const NAMES: Partial<Record<State, string>> = {
  ok: "up",
  critical: "down",
  silent: "not known",
  paused: "maintenance",
};

/** A presence over time as a ribbon shows it. */
export function stretches(ribbon: Schemas["PresenceFrom"][]): Stretch[] {
  return ribbon.map(({ at, presence }) => ({ at, state: STATE_OF[presence] }));
}

/** How many of many are asked for first, and how many when they are. */
export const FIRST = 100;
export const MOST = 1000;

export type Of = "host" | "service" | "probe" | "application";
export const OF: readonly Of[] = ["host", "service", "probe", "application"];
