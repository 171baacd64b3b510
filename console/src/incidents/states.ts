import type { Incident, State } from "../api/client";
import { moment, unix } from "../lib/format";

/** How an incident is drawn: grey for practice and what is over, else as bad as it is. */
export function stateOf(incident: Incident): State {
  if (incident.practice) return "paused";
  if (incident.state === "closed" || incident.recovered_at) return "ok";
  return incident.severity;
}

/** What is to be said of it beside how bad it is; empty when it is simply open. */
export function standing(incident: Incident, now: number): string {
  if (incident.practice) return "practice";
  if (incident.joined_into) return `part of ${incident.joined_into}`;
  if (incident.state === "closed") return "closed";
  if (incident.recovered_at) return "recovered";
  if (incident.snoozed_until) return `quiet until ${moment(unix(incident.snoozed_until), now)}`;
  if (incident.snoozed_until_worse) return "quiet until worse";
  return "";
}

/** The worst and oldest first; what is over last. */
export function inOrder(incidents: Incident[]): Incident[] {
  const rank = (i: Incident) => (i.practice ? 4 : 0) + (i.recovered_at ? 2 : 0) + (i.severity === "critical" ? 0 : 1);
  return [...incidents].sort((a, b) => rank(a) - rank(b) || unix(a.opened_at) - unix(b.opened_at));
}

/** What an incident is called, without whom it touches: that is said beside it. */
export function called(incident: Incident): string {
  return incident.hurts.length ? incident.title.replace(/, touches [^,]*(, [^,]*)*$/, "") : incident.title;
}
