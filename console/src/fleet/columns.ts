import type { Schemas } from "../api/client";
import { TAKES, type Take } from "../lib/question";
import { FACTS } from "./facts";

export type Asked = Partial<Schemas["TableColumn"]>;

/** A column whose values the service works out: one for each host. */
export interface Column {
  key: string;
  name: string;
  /** What it is, said in full. */
  about: string;
  ask: Asked;
  right: boolean;
}

const USUAL: readonly { key: string; name: string; ask: Asked }[] = [
  { key: "cpu", name: "CPU", ask: { metric: "balise.cpu.busy", take: "avg", over: "5m" } },
  {
    key: "memory",
    name: "Memory",
    ask: { metric: "system.memory.utilization", where: 'system.memory.state eq "used"', take: "last" },
  },
  { key: "disk", name: "Fullest volume", ask: { metric: "system.filesystem.utilization", take: "max" } },
  { key: "load", name: "Load a core", ask: { metric: "balise.cpu.load_per_core", take: "last" } },
  { key: "net", name: "Network", ask: { metric: "system.network.io", take: "rate" } },
];
/** Columns that there always are to choose. */
export const COLUMNS: readonly Column[] = USUAL.map((one) => ({ ...one, about: columnText(one.ask), right: true }));
export const DEFAULT_COLUMNS = ["groups", ...COLUMNS.map((c) => c.key)];
export const MOST_COLUMNS = 12;

const TAKEN = new Set<string>(TAKES.map(([take]) => take));
const NAME = "count:\\w+|[^()@[\\]\\s:]+";
const FORM = new RegExp(
  `^(?:(?<take>[a-z0-9]+)\\((?<of>${NAME})\\)|(?<alone>${NAME}))(?:@(?<over>\\w+))?(?:\\[(?<where>.+)\\])?$`,
  "s",
);

/** What a column asks, from its text: `max(system.disk.io)@1h[…]`, `label:role`, `fact:cores`, `count:events[…]`. */
export function readColumn(text: string): Asked | undefined {
  for (const kind of ["fact", "label"] as const) {
    if (text.startsWith(`${kind}:`) && text.length > kind.length + 1) return { [kind]: text.slice(kind.length + 1) };
  }
  const found = FORM.exec(text)?.groups;
  const what = found?.of ?? found?.alone;
  if (!found || !what) return undefined;
  const said: Asked = {};
  if (found.over) said.over = found.over;
  if (found.where) said.where = found.where;
  const counted = (["alerts", "incidents", "events"] as const).find((one) => what === `count:${one}`);
  if (counted) return { ...said, count: counted };
  if (what.startsWith("count:") || (found.take && !TAKEN.has(found.take))) return undefined;
  return { ...said, metric: what, take: (found.take ?? "avg") as Take };
}

/** The text of a column, as it is read. */
export function columnText(ask: Asked): string {
  const behind = `${ask.over ? `@${ask.over}` : ""}${ask.where ? `[${ask.where}]` : ""}`;
  if (ask.fact) return `fact:${ask.fact}`;
  if (ask.label) return `label:${ask.label}`;
  if (ask.count) return `count:${ask.count}${behind}`;
  return `${ask.take ?? "avg"}(${ask.metric})${behind}`;
}

/** A column of the table by its key: a usual one, or one that was made; undefined for facts of the console's own. */
export function columnOf(key: string): Column | undefined {
  const usual = COLUMNS.find((one) => one.key === key);
  if (usual) return usual;
  if (key === "groups" || FACTS.some((one) => one.key === key)) return undefined;
  const ask = readColumn(key);
  if (!ask) return undefined;
  const name = ask.fact ?? ask.label ?? ask.count ?? `${wordOf(ask.take)} ${short(ask.metric ?? "")}`;
  return { key, name, about: columnText(ask), ask, right: !ask.fact && !ask.label };
}

function wordOf(take: Asked["take"]): string {
  return TAKES.find(([one]) => one === take)?.[1] ?? "mean";
}

function short(metric: string): string {
  return metric.split(".").slice(-2).join(".");
}

/** Keys of columns in the address, where a comma parts them. */
export function keysIn(text: string): string[] {
  return text
    .split(",")
    .filter(Boolean)
    .map((key) => key.replaceAll("%2C", ","));
}

export function keysText(keys: string[]): string {
  return keys.map((key) => key.replaceAll(",", "%2C")).join(",");
}

/** The keys of the columns that an address asks for. */
export function shownIn(parameters: URLSearchParams): string[] {
  const keys = keysIn(parameters.get("columns") ?? "");
  return keys.length ? keys : DEFAULT_COLUMNS;
}

/** The columns that the service works out, in the order in which they are shown. */
export function columnsOf(keys: string[]): Column[] {
  return keys.flatMap((key) => columnOf(key) ?? []);
}

/** The order that an address asks for. */
export function orderIn(parameters: URLSearchParams): Order {
  return { key: parameters.get("sort") ?? "state", down: parameters.get("down") === "1" };
}

/** What of the fleet is asked. */
export interface TableAsked {
  where: string;
  columns: Column[];
  order: Order;
  groupBy: string;
  lines: boolean;
}

/** The question for a table, without how many of its rows. */
export function tableBody(asked: TableAsked) {
  const { extra, sort } = orderOf(asked.order, asked.columns);
  return {
    columns: [...asked.columns.map((one) => one.ask), ...extra] as Schemas["TableColumn"][],
    where: asked.where || null,
    group_by: asked.groupBy || null,
    sort,
    lines: asked.lines,
  };
}

export type Order = { key: string; down: boolean };

/** What a row shows, in the order in which the service put it. */
export type Row = Schemas["TableRow"];

/** The order for the service: by name or state, or by the number of a column, which stands among the columns or is put
 * behind them. */
export function orderOf(order: Order, columns: Column[]): { extra: Asked[]; sort: Schemas["TableOrder"][] } {
  if (order.key === "name" || order.key === "state")
    return { extra: [], sort: [{ by: order.key, descending: order.down }] };
  const place = columns.findIndex((one) => one.key === order.key);
  if (place >= 0) return { extra: [], sort: [{ column: place, descending: order.down }] };
  const fact = FACTS.find((one) => one.key === order.key)?.fact;
  if (!fact) return { extra: [], sort: [{ by: "state", descending: order.down }] };
  return { extra: [{ fact }], sort: [{ column: columns.length, descending: order.down }] };
}
