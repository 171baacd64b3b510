import type { MetricQuery } from "../api/client";

/** A question about a metric as a sentence in the address: `avg of balise.cpu.busy by host where group eq "Booking"`. */

export type Take = NonNullable<MetricQuery["take"]>;
export const TAKES: ReadonlyArray<readonly [Take, string]> = [
  ["avg", "mean"],
  ["max", "highest"],
  ["min", "lowest"],
  ["last", "newest"],
  ["sum", "sum"],
  ["rate", "rate a second"],
  ["change", "change"],
  ["count", "number of points"],
  ["p50", "median"],
  ["p90", "90 of 100"],
  ["p95", "95 of 100"],
  ["p99", "99 of 100"],
];
const KNOWN = new Set<string>(TAKES.map(([take]) => take));

export interface Question {
  take: Take;
  metric: string;
  by: string[];
  where: string;
}

const FORM = /^(\w+) of (\S+)(?: by ([^ ]+(?:, ?[^ ]+)*))?(?: where (.+))?$/s;

/** The question that a text asks; undefined for what is none. */
export function readQuestion(text: string): Question | undefined {
  const found = FORM.exec(text.trim());
  if (!found || !KNOWN.has(found[1] as string)) return undefined;
  return {
    take: found[1] as Take,
    metric: found[2] as string,
    by: (found[3] ?? "")
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean),
    where: found[4]?.trim() ?? "",
  };
}

export function questionText(question: Question): string {
  const by = question.by.length ? ` by ${question.by.join(",")}` : "";
  return `${question.take} of ${question.metric}${by}${question.where ? ` where ${question.where}` : ""}`;
}

/** What a chart is beside others: the same before, and what is usual. */
export const BESIDE: ReadonlyArray<readonly [string, string]> = [
  ["", "nothing"],
  ["span", "the span before"],
  ["-1d", "yesterday"],
  ["-7d", "last week"],
];

/** How far back something is compared, as the service takes it: the span before is as long as the span. */
export function shiftOf(beside: string, length: number): string | undefined {
  if (!beside) return undefined;
  return beside === "span" ? `-${Math.max(1, Math.round(length))}s` : beside;
}

/** The most lines that share a lane. */
export const SHARED = 6;
const ALONE = 8;

/** Which lines stand in which lane: few have one each, many share. */
export function lanesOf(count: number, together: boolean): number[][] {
  const every = Array.from({ length: count }, (_, i) => i);
  if (!together && count <= ALONE) return every.map((i) => [i]);
  const lanes: number[][] = [];
  for (let i = 0; i < count; i += SHARED) lanes.push(every.slice(i, i + SHARED));
  return lanes;
}

/** Values stacked: each line with all those below it. */
export function stacked(lines: (number | null)[][]): (number | null)[][] {
  const sum: number[] = [];
  return lines.map((line) =>
    line.map((value, i) => {
      if (value === null) return null;
      sum[i] = (sum[i] ?? 0) + value;
      return sum[i] as number;
    }),
  );
}
