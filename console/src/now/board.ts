import type { Alert, Host, Incident } from "../api/client";
import { counted, STATE, unix, withUnit } from "../lib/format";

/** One row of the board: an open incident. */
export interface Row {
  incident: Incident;
  severity: "warning" | "critical";
  silent: boolean;
  since: number;
  /** Its open alerts, the causes and the worst first. */
  alerts: Alert[];
  hosts: string[];
  /** The applications that it touches, or else the groups whose hosts are concerned, sites left out. */
  feels: string[];
  clue: string | null;
  owner: string | null;
}

/** The open incidents as rows, the worst and oldest first; what is practice, over or quiet is not on the board. */
export function boardRows(incidents: Incident[], alerts: Alert[], hosts: Host[]): Row[] {
  const byName = new Map(hosts.map((h) => [h.name, h]));
  const byNumber = new Map(alerts.map((a) => [a.id, a]));
  const shown = incidents.filter((i) => !i.practice && !i.recovered_at && !i.snoozed_until && !i.snoozed_until_worse);
  const rows = shown.map((incident): Row => {
    const found = incident.alerts.flatMap((a) => byNumber.get(a.id) ?? []);
    const groups = new Set<string>();
    for (const name of incident.hosts) {
      const host = byName.get(name);
      for (const group of host?.groups ?? []) if (!incident.sites.includes(group)) groups.add(group);
    }
    return {
      incident,
      severity: incident.severity,
      silent: found.length > 0 && found.every((a) => a.silent),
      since: unix(incident.opened_at),
      alerts: found,
      hosts: [...new Set([incident.alerts[0]?.host ?? "", ...incident.hosts])].filter(Boolean),
      feels: incident.hurts.length ? incident.hurts.map((h) => h.application) : [...groups],
      clue: incident.likely?.suspect ?? found.find((a) => a.clue)?.clue ?? null,
      owner: incident.taken_by,
    };
  });
  return rows.sort((a, b) => (a.severity === b.severity ? a.since - b.since : a.severity === "critical" ? -1 : 1));
}

/** How many things are wrong, and whether somebody should act now. */
export function headline(rows: Row[], silent: number): string {
  if (!rows.length && !silent) return "All is well";
  const critical = rows.filter((r) => r.severity === "critical").length;
  const count = rows.length;
  if (!count) return silent === 1 ? "One host is silent" : `${counted(silent)} hosts are silent`;
  const first = `${counted(count)} ${count === 1 ? "thing is" : "things are"} wrong`;
  if (!critical) return `${first}, none needs you this minute`;
  if (critical === count)
    return count === 1 ? `${first}, and it needs somebody now` : `${first}, and all need somebody now`;
  return `${first}, ${counted(critical).toLowerCase()} of them ${critical === 1 ? "needs" : "need"} somebody now`;
}

/** `book-app-n1, book-app-n2 and 2 more`. */
export function someOf(names: string[], most = 2): string {
  if (names.length <= most + 1) return names.join(", ");
  return `${names.slice(0, most).join(", ")} and ${names.length - most} more`;
}

/** The value of the alert that a row is called by beside its limit, and how many alerts there are; empty for one that is
 * a state, which is no measure. */
export function beneath(row: Row): string {
  const first = row.incident.alerts[0];
  const said = [];
  if (first && first.unit !== STATE) {
    const now = row.alerts.find((a) => a.id === first.id)?.value ?? first.value;
    said.push(`${withUnit(now, first.unit)}, limit ${withUnit(first.limit, first.unit)}`);
  }
  if (row.incident.alert_count > 1) said.push(`${row.incident.alert_count.toLocaleString("en")} alerts`);
  return said.join(" · ");
}
