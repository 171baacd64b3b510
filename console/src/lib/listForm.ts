import type { Schemas } from "../api/client";

/** A list of hosts as the form holds it. */
export interface ListForm {
  text: string;
  protocol: "ssh" | "snmp";
  credential: string;
  group: string;
  site: string;
}

export const BLANK_LIST: ListForm = { text: "", protocol: "ssh", credential: "", group: "", site: "" };

export function listOf(form: ListForm): Schemas["ReadList"] {
  return {
    text: form.text,
    protocol: form.protocol,
    credential: form.credential || null,
    group: form.group || null,
    site: form.site || null,
  };
}

/** What of a list can be tested, and what has to be corrected first: the lines that could not be read, for the box. */
export function partedList(read: Schemas["ListAnswer"]): { good: number; bad: number; left: string } {
  const left = read.problems.map((p) => p.text);
  return {
    good: read.entries.length,
    bad: read.problems.reduce((sum, p) => sum + (p.lines ?? 1), 0),
    left: (left.length && read.heading ? [read.heading, ...left] : left).join("\n"),
  };
}
