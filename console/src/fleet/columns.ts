import type { Host, MetricAnswer } from "../api/client";
import type { Ask } from "../lib/queries";

/** A column of the fleet: a metric taken over the last minutes, one value a host. */
export interface MetricColumn {
  key: string;
  name: string;
  ask: Ask;
}

export const COLUMNS: readonly MetricColumn[] = [
  { key: "cpu", name: "CPU", ask: { metric: "balise.cpu.busy", take: "avg", by: ["host"], step: "2m" } },
  {
    key: "memory",
    name: "Memory",
    ask: {
      metric: "system.memory.utilization",
      where: 'system.memory.state eq "used"',
      take: "last",
      by: ["host"],
      step: "2m",
    },
  },
  {
    key: "disk",
    name: "Fullest volume",
    ask: { metric: "system.filesystem.utilization", take: "max", by: ["host"], step: "2m" },
  },
  {
    key: "load",
    name: "Load a core",
    ask: { metric: "balise.cpu.load_per_core", take: "last", by: ["host"], step: "2m" },
  },
  { key: "net", name: "Network", ask: { metric: "system.network.io", take: "rate", by: ["host"], step: "2m" } },
];

/** The newest value of every host. */
export function newest(answer: MetricAnswer | undefined): Map<string, number> {
  const found = new Map<string, number>();
  for (const series of answer?.series ?? []) {
    const value = series.values.findLast((v) => v !== null);
    if (value !== undefined && value !== null) found.set(series.attributes.host ?? "", value);
  }
  return found;
}

export type Order = { key: string; down: boolean };
const RANK: Record<string, number> = { critical: 0, warning: 1, silent: 2, ok: 3, paused: 4 };

/** The hosts in order; those without a value come last either way. */
export function ordered(hosts: Host[], order: Order, values: Map<string, number> | undefined): Host[] {
  const side = order.down ? -1 : 1;
  return [...hosts].sort((a, b) => {
    if (order.key === "state")
      return side * ((RANK[a.state] ?? 9) - (RANK[b.state] ?? 9)) || a.name.localeCompare(b.name);
    if (order.key === "name") return side * a.name.localeCompare(b.name);
    const left = values?.get(a.name);
    const right = values?.get(b.name);
    if (left === undefined || right === undefined) return (left === undefined ? 1 : 0) - (right === undefined ? 1 : 0);
    return side * (left - right) || a.name.localeCompare(b.name);
  });
}
