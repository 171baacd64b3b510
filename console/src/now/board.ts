import type { Alert, Host } from "../api/client";
import { counted, STATE, unix, withUnit } from "../lib/format";

/** One row of the board: the open alerts of one rule. */
export interface Row {
  rule: string;
  severity: "warning" | "critical";
  silent: boolean;
  since: number;
  alerts: Alert[];
  hosts: string[];
  /** Groups whose hosts are concerned, sites left out. */
  groups: string[];
  clue: string | null;
  owner: string | null;
}

/** The open alerts as rows, the worst and oldest first. */
export function boardRows(alerts: Alert[], hosts: Host[]): Row[] {
  const byName = new Map(hosts.map((h) => [h.name, h]));
  const byRule = new Map<string, Alert[]>();
  for (const alert of alerts) byRule.set(alert.rule, [...(byRule.get(alert.rule) ?? []), alert]);
  const rows = [...byRule].map(([rule, found]): Row => {
    found.sort((a, b) => unix(a.opened_at) - unix(b.opened_at));
    const names = [...new Set(found.map((a) => a.host).filter(Boolean))];
    const groups = new Set<string>();
    for (const name of names) {
      const host = byName.get(name);
      for (const group of host?.groups ?? []) if (group !== host?.labels.site) groups.add(group);
    }
    return {
      rule,
      severity: found.some((a) => a.severity === "critical") ? "critical" : "warning",
      silent: found.every((a) => a.silent),
      since: Math.min(...found.map((a) => unix(a.opened_at))),
      alerts: found,
      hosts: names,
      groups: [...groups],
      clue: found.find((a) => a.clue)?.clue ?? null,
      owner: found.find((a) => a.acknowledged_by)?.acknowledged_by ?? null,
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

/** The worst value of a row beside its limit; empty for a state, which is no measure. */
export function measured(row: Row): string {
  const first = row.alerts[0];
  if (!first || first.unit === STATE) return "";
  const values = row.alerts.map((a) => a.value).filter((v): v is number => v !== null);
  return `${withUnit(Math.max(...values), first.unit)}, limit ${withUnit(first.limit, first.unit)}`;
}
