import type { Schemas } from "../api/client";
import { quoted } from "./filterText";
import { unix } from "./format";
import type { Ask } from "./queries";
import type { Span } from "./span";

/** The trail as it is drawn: which lanes, in which order, and how sure in words. */

export type Trail = Schemas["Trail"];
export type Departure = Schemas["Departure"];

export const MOST_STAIRS = 8;
/** From how sure on the first suspect is called the likely cause; as the service has it. */
export const SURE = 0.5;

/** What a departure tells of, in the order in which lanes are chosen: trouble before more or less work. */
const WEIGHT: Record<Departure["kind"], number> = {
  state: 1,
  waiting: 1,
  errors: 1,
  latency: 1,
  saturation: 0.8,
  traffic: 0.4,
  other: 0.2,
};

function placeOf(one: Departure): string {
  return `${one.host ?? ""} ${one.attributes["service.name"] ?? ""}`;
}

function weightOf(one: Departure): number {
  const far = Math.min(60, Math.abs(one.deviation ?? 5));
  return WEIGHT[one.kind] * Math.log1p(far) * (one.metric ? 1 : 0.7);
}

/** One departure for each place, the clearest; those of suspects and the farthest, in the order in which they departed. */
export function stairs(trail: Trail): Departure[] {
  const best = new Map<string, Departure>();
  for (const one of trail.departed) {
    const own = one.of === 1 && !one.metric;
    const key = own ? "first" : placeOf(one);
    const held = best.get(key);
    if (!held || weightOf(one) > weightOf(held)) best.set(key, one);
  }
  const rank = (one: Departure) => weightOf(one) + (one.of === 1 ? 100 : one.of ? 2 : 0);
  const named = trail.suspects.length > 0 && trail.sure >= SURE;
  return [...best.values()]
    .filter((one) => !named || one.follows || one.of === 1)
    .sort((a, b) => rank(b) - rank(a))
    .slice(0, MOST_STAIRS)
    .sort((a, b) => Date.parse(a.at) - Date.parse(b.at));
}

/** What is drawn: the stretch that was asked about, and what departed before it. */
export function spanOf(trail: Trail): Span {
  const [asked, end] = [unix(trail.from), unix(trail.to)];
  const first = Math.min(...stairs(trail).map((one) => unix(one.at)));
  const start = first < asked + (end - asked) / 20 ? Math.min(asked, first - (end - first) / 15) : asked;
  return { from: "", to: "", start: Math.floor(start), end: Math.ceil(end), live: false };
}

/** What a lane shows, in the room that there is: the end of a metric's name, which says what it measures. */
export function shownBy(one: Departure): string {
  if (!one.metric) return "";
  const parts = one.metric.split(".");
  const volume = one.attributes["system.filesystem.mountpoint"] ?? one.attributes["system.device"] ?? "";
  return [parts.slice(-2).join("."), volume].filter(Boolean).join(" ");
}

/** The question whose answer is the line of a departure; undefined for what has no line. */
export function askOf(one: Departure): Ask | undefined {
  if (!one.metric) return undefined;
  const own = [
    ...(one.host ? [`host eq ${quoted(one.host)}`] : []),
    ...Object.entries(one.attributes).map(([name, value]) => `${name} eq ${quoted(value)}`),
  ].join(" and ");
  return { metric: one.metric, where: own, take: one.take ?? "avg", by: [] };
}

/** How sure, as people say it; with the number, so that nobody has to guess what the word means. */
export function sureness(sure: number): string {
  const percent = `${Math.round(sure * 100)} %`;
  if (sure >= 0.9) return `almost certain, ${percent}`;
  if (sure >= SURE) return `likely, ${percent}`;
  if (sure >= 0.2) return `possible, ${percent}`;
  return `unlikely, ${percent}`;
}
