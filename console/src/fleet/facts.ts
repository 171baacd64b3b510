import type { Host } from "../api/client";
import { duration, unix, withUnit } from "../lib/format";

/** One fact of a host as people read it. */
export interface Fact {
  key: string;
  name: string;
  of: (host: Host, now: number) => string;
  /** The service's name of it, where the service can sort by it. */
  fact?: string;
}

/** The facts that are compared, and that columns can show, in the order in which they are asked for. */
export const FACTS: readonly Fact[] = [
  { key: "os", name: "System", of: (h) => h.os },
  { key: "kernel", name: "Kernel", fact: "kernel", of: (h) => h.facts?.kernel ?? "" },
  { key: "architecture", name: "Architecture", fact: "architecture", of: (h) => h.facts?.architecture ?? "" },
  { key: "cores", name: "Cores", fact: "cores", of: (h) => (h.facts?.cores ? String(h.facts.cores) : "") },
  {
    key: "ram",
    name: "Memory fitted",
    fact: "memory",
    of: (h) => (h.facts?.memory ? withUnit(h.facts.memory, "By") : ""),
  },
  { key: "virtual", name: "Machine", fact: "virtual", of: (h) => h.facts?.virtual ?? "" },
  { key: "addresses", name: "Addresses", of: (h) => (h.facts?.addresses ?? []).join(", ") },
  { key: "zone", name: "Time zone", fact: "time_zone", of: (h) => h.facts?.time_zone ?? "" },
  {
    key: "up",
    name: "Up for",
    fact: "boot_time",
    of: (h, now) => (h.facts?.boot_time ? duration(Math.max(0, now - h.facts.boot_time)) : ""),
  },
  { key: "agent", name: "Agent version", fact: "agent_version", of: (h) => h.facts?.agent_version ?? "" },
  { key: "mode", name: "Collected", of: (h) => h.collection.mode },
  { key: "by", name: "Collected by", of: (h) => h.collection.by },
  {
    key: "delay",
    name: "Delay",
    of: (h) => (h.collection.delay_seconds === null ? "" : withUnit(h.collection.delay_seconds, "s")),
  },
  { key: "problem", name: "Last problem", of: (h) => h.collection.problem ?? "" },
  {
    key: "labels",
    name: "Labels",
    of: (h) =>
      Object.entries(h.labels)
        .map(([k, v]) => `${k}=${v}`)
        .join(" "),
  },
  { key: "since", name: "State since", of: (h, now) => duration(Math.max(0, now - unix(h.state_since))) },
];

/** Facts that say nothing by being different: every host has its own. */
const ALWAYS_OWN = new Set(["addresses", "up", "delay", "since"]);

export interface Compared {
  fact: Fact;
  values: string[];
  differs: boolean;
  /** For each host, whether it is among the few that have another value than most. */
  odd: boolean[];
}

/** Facts side by side. Where they differ, those that are unlike most are marked. */
export function compared(hosts: Host[], now: number): Compared[] {
  return FACTS.map((fact) => {
    const values = hosts.map((h) => fact.of(h, now));
    const counts = new Map<string, number>();
    for (const value of values) counts.set(value, (counts.get(value) ?? 0) + 1);
    const differs = counts.size > 1 && !ALWAYS_OWN.has(fact.key);
    const most = Math.max(...counts.values());
    const common = [...counts].filter(([, count]) => count === most).map(([value]) => value);
    return {
      fact,
      values,
      differs,
      odd: values.map((value) => differs && most > 1 && !common.includes(value)),
    };
  });
}
