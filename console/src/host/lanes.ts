import type { Host, Metric, Rule } from "../api/client";
import { type Ask, quoted } from "../lib/queries";
import type { Bound } from "../ui/MetricLane";

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

const DEPTH: { metric: string; name: string; shows: string; by: string; where?: string }[] = [
  { metric: "balise.program.cpu", name: "Programs", shows: "cores by program", by: "process.executable.name" },
  { metric: "balise.program.memory", name: "Programs' memory", shows: "by program", by: "process.executable.name" },
  { metric: "balise.user.cpu", name: "Users", shows: "cores by user", by: "user.name" },
  {
    metric: "balise.pressure.share",
    name: "Waiting for",
    shows: "share of the time in which work waited",
    by: "balise.resource",
    where: 'balise.stalled eq "some"',
  },
  { metric: "balise.disk.latency", name: "Disk latency", shows: "an operation", by: "system.device" },
  { metric: "balise.nfs.latency", name: "File servers", shows: "an operation", by: "system.filesystem.mountpoint" },
  { metric: "container.memory.usage", name: "Containers", shows: "memory", by: "process.executable.name" },
  { metric: "balise.directory.size", name: "Directories", shows: "size", by: "balise.directory" },
];

/** Lanes that show the system in depth, of what this host tells; asked for when somebody wants to look deeper. */
export function depthLanes(host: Host, metrics: Metric[]): LaneSpec[] {
  const told = new Set(metrics.map((m) => m.name));
  return DEPTH.filter((d) => told.has(d.metric)).map((d, i) => ({
    key: d.metric,
    name: d.name,
    shows: d.shows,
    ask: {
      metric: d.metric,
      where: `host eq ${quoted(host.name)}${d.where ? ` and ${d.where}` : ""}`,
      take: "avg",
      by: [d.by],
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
