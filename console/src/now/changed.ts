import type { Event, Incident } from "../api/client";
import { unix } from "../lib/format";

/** A change, on one or several hosts, and what makes it worth a look. */
export interface Changed {
  event: Event;
  hosts: string[];
  /** The incident before whose opening it was made, or whose host it is on. */
  incident: Incident | undefined;
  before: boolean;
}

/** Changes so long before an incident may have to do with it, s. */
const SHORTLY = 3600;

/** What changed, once for all hosts on which it is the same: shortly before an incident first, then by how new it is. */
export function changesThatMatter(events: Event[], incidents: Incident[], most: number): Changed[] {
  const found = new Map<string, Changed>();
  for (const event of events) {
    const held = found.get(event.body);
    if (held) {
      if (!held.hosts.includes(event.host)) held.hosts.push(event.host);
      continue;
    }
    const at = unix(event.time);
    const concerned = incidents.filter((one) => one.hosts.includes(event.host) && !one.recovered_at);
    const opened = concerned.find((one) => at <= unix(one.opened_at) && at > unix(one.opened_at) - SHORTLY);
    found.set(event.body, {
      event,
      hosts: [event.host],
      incident: opened ?? concerned[0],
      before: opened !== undefined,
    });
  }
  const rank = (one: Changed) => (one.before ? 0 : one.incident ? 1 : 2);
  return [...found.values()]
    .sort((a, b) => rank(a) - rank(b) || unix(b.event.time) - unix(a.event.time))
    .slice(0, most);
}

/** Whether anybody is hurt, in words: the applications that lack something, and what people lack. */
export function hurtWords(incidents: Incident[]): string {
  const told = new Map<string, string>();
  for (const one of incidents) {
    if (one.practice || one.recovered_at) continue;
    for (const hurt of one.hurts)
      if (hurt.state !== "ok" && hurt.state !== "paused" && !told.has(hurt.application))
        told.set(hurt.application, hurt.state);
  }
  if (!told.size) return "Nobody who uses an application is hurt, as far as the drawings tell.";
  const bad = [...told].filter(([, state]) => state === "critical").map(([name]) => name);
  const less = [...told].filter(([, state]) => state !== "critical").map(([name]) => name);
  const words = [];
  if (bad.length)
    words.push(
      `${listed(bad)} ${bad.length === 1 ? "is" : "are"} in trouble for those who use ${bad.length === 1 ? "it" : "them"}`,
    );
  if (less.length) words.push(`${listed(less)} ${less.length === 1 ? "is" : "are"} hurt a little`);
  return `${words.join("; ")}.`;
}

function listed(names: string[]): string {
  if (names.length < 2) return names.join("");
  return `${names.slice(0, -1).join(", ")} and ${names.at(-1)}`;
}
