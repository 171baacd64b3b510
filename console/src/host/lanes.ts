import type { Host, Metric, Rule, Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import type { Ask } from "../lib/queries";
import type { Bound } from "../ui/LaneLines";

/** What one lane of a host's page asks and shows. */
export interface LaneSpec {
  key: string;
  name: string;
  shows: string;
  ask: Ask;
  colour: number;
  top?: number;
  of?: string;
  bounds?: Bound[];
  height?: number;
}

/** The lanes of the operating system, in the order of the page. */
export function systemLanes(host: Host, rules: Rule[]): LaneSpec[] {
  const mine = `host eq ${quoted(host.name)}`;
  const cores = host.facts?.cores;
  const memory = host.facts?.memory;
  return [
    {
      key: "cpu",
      name: "CPU",
      shows: "busy",
      ask: { metric: "balise.cpu.busy", where: mine, take: "avg", by: [] },
      colour: 0,
      top: 1,
      of: cores ? `of ${cores} cores` : undefined,
      height: 44,
      bounds: boundsOf(rules, "balise.cpu.busy", host),
    } as LaneSpec,
    {
      key: "memory",
      name: "Memory",
      shows: "used",
      ask: { metric: "system.memory.usage", where: `${mine} and system.memory.state eq "used"`, take: "last", by: [] },
      colour: 3,
      top: memory || undefined,
      of: memory ? `of ${(memory / 2 ** 30).toFixed(memory < 2 ** 33 ? 1 : 0)} GiB` : undefined,
    } as LaneSpec,
    {
      key: "volumes",
      name: "Volumes",
      shows: "fullest first",
      ask: {
        metric: "system.filesystem.utilization",
        where: `${mine} and not (system.filesystem.type eq "tmpfs")`,
        take: "last",
        by: ["system.filesystem.mountpoint"],
        top: 4,
      },
      colour: 1,
      top: 1,
      bounds: boundsOf(rules, "system.filesystem.utilization", host),
    },
    {
      key: "storage",
      name: "Storage",
      shows: "share of the time a disk was busy",
      ask: { metric: "system.disk.io_time", where: mine, take: "rate", by: ["system.device"], top: 2 },
      colour: 1,
    },
    {
      key: "network",
      name: "Network",
      shows: "in · out",
      ask: {
        metric: "system.network.io",
        where: `${mine} and not (network.interface.name eq "lo")`,
        take: "rate",
        by: ["network.io.direction"],
      },
      colour: 2,
    },
  ];
}

type Chart = Schemas["KitChart"];

/** Lanes that show the system in depth, as its kit charts what this host tells; asked for to look deeper. */
export function depthLanes(host: Host, metrics: Metric[], charts: Chart[]): LaneSpec[] {
  const told = new Set(metrics.map((m) => m.name));
  return charts
    .filter((chart) => told.has(chart.metric))
    .map((chart, i) => ({
      key: chart.title,
      name: chart.title,
      shows: chart.about || chart.metric,
      ask: {
        metric: chart.metric,
        where: `host eq ${quoted(host.name)}${chart.where ? ` and ${chart.where}` : ""}`,
        take: chart.take ?? "avg",
        by: chart.by ?? [],
        top: 4,
      },
      colour: i,
    }));
}

const PLAIN = /^(system|process|container|balise)\./;
const MOST_SERVICE_LANES = 6;

/** Lanes of the services on a host: metrics with a rule first, then by name. */
export function serviceLanes(host: Host, metrics: Metric[], rules: Rule[]): LaneSpec[] {
  const ruled = new Set(rules.filter((r) => r.enabled).map((r) => r.measure.metric));
  return metrics
    .filter((m) => !PLAIN.test(m.name))
    .sort((a, b) => Number(ruled.has(b.name)) - Number(ruled.has(a.name)) || a.name.localeCompare(b.name))
    .slice(0, MOST_SERVICE_LANES)
    .map((metric, i): LaneSpec => {
      const take =
        metric.kind === "histogram" ? "p95" : metric.kind === "counter" || metric.kind === "delta" ? "rate" : "avg";
      const split = metric.attributes.find((a) => a.endsWith(".state"));
      return {
        key: metric.name,
        name: readable(metric.name),
        shows: take === "p95" ? "95 of 100 were faster" : metric.name,
        ask: { metric: metric.name, where: `host eq ${quoted(host.name)}`, take, by: split ? [split] : [], top: 4 },
        colour: i,
        bounds: boundsOf(rules, metric.name, host),
      };
    });
}

/** `postgresql.sessions.blocked` as `Sessions blocked`. */
export function readable(metric: string): string {
  const words = metric.split(".").slice(1).join(" ").replace(/_/g, " ");
  const text = words || metric;
  return text.charAt(0).toUpperCase() + text.slice(1);
}

/** The limits that rules set on a metric, if they are for every host or for this one. */
export function boundsOf(rules: Rule[], metric: string, host: Host): Bound[] {
  const rule = rules.find((r) => r.enabled && r.measure.metric === metric && (!r.hosts || r.hosts.includes(host.name)));
  if (!rule) return [];
  return (["warning", "critical"] as const).flatMap((severity) => {
    const value = rule.limits[severity]?.above ?? rule.limits[severity]?.below;
    return value === undefined || value === null ? [] : [{ value, severity }];
  });
}

const LEAST_MINUTES = 5;

/** How far back all is shown that is known of a host that came in the last two thirds of `span`; undefined for others. */
export function knownSpan(span: { start: number; end: number }, since: number, now: number): string | undefined {
  if (since <= span.start + (span.end - span.start) / 3 || since > span.end) return undefined;
  const minutes = Math.max(LEAST_MINUTES, Math.ceil((now - since) / 60));
  return minutes * 60 < span.end - span.start ? `-${minutes}m` : undefined;
}
