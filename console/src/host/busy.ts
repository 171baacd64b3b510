import type { Schemas } from "../api/client";
import { quoted } from "../lib/filterText";

/** What a host can have been busy with, in the order of the page. */
export const KINDS = [
  { kind: "process", name: "processes" },
  { kind: "program", name: "programs" },
  { kind: "user", name: "users" },
  { kind: "session", name: "sessions" },
  { kind: "statement", name: "statements" },
  { kind: "people", name: "signed-in people" },
  { kind: "path", name: "web requests" },
  { kind: "client", name: "web clients" },
] as const;
export type Kind = (typeof KINDS)[number]["kind"];

export const ORDERS = [
  { by: "cpu", name: "processor" },
  { by: "memory", name: "memory" },
  { by: "io", name: "storage" },
] as const;
export type Order = (typeof ORDERS)[number]["by"];

/** Lines of a process in the log: those that name its number, or come from its program. */
export function linesOf(host: string, one: Schemas["ProcessSpan"]): string {
  const program = one.program.split(/[:\s]/)[0] ?? "";
  const ways = program ? [`source sw ${quoted(program)}`] : [];
  if (one.pid) ways.push(`process.pid eq ${one.pid}`, `syslog.procid eq ${quoted(String(one.pid))}`);
  return `host eq ${quoted(host)} and (${ways.join(" or ")})`;
}

/** The number of the process that wrote an event, where it says so. */
export function writerOf(event: Schemas["Event"]): number | undefined {
  const said = event.attributes["process.pid"] ?? event.attributes["syslog.procid"];
  const pid = Number(said);
  return Number.isInteger(pid) && pid > 0 ? pid : undefined;
}
