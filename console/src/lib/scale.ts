/** Turning values and times into places on the page. */

const TIME_STEPS = [
  5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 604800,
];

/** Round moments within a span, at most `most` of them, in local time. */
export function timeTicks(start: number, end: number, most: number): number[] {
  const step = TIME_STEPS.find((s) => (end - start) / s <= most) ?? 604800;
  const shift = new Date(start * 1000).getTimezoneOffset() * 60;
  const ticks: number[] = [];
  for (let t = Math.ceil((start - shift) / step) * step + shift; t <= end; t += step) ticks.push(t);
  return ticks;
}

/** A round upper end for values up to `high`. */
export function roundUp(high: number): number {
  if (!(high > 0)) return 1;
  const power = 10 ** Math.floor(Math.log10(high));
  for (const step of [1, 1.5, 2, 3, 4, 5, 7.5, 10]) if (high <= step * power) return step * power;
  return 10 * power;
}

export interface Line {
  times: number[];
  values: (number | null)[];
}

/** The points that were heard, with a gap (null) only where more than three usual distances are missing. */
export function bridged(line: Line): Line {
  const heard: number[] = [];
  line.values.forEach((value, i) => {
    if (value !== null && value !== undefined) heard.push(i);
  });
  if (heard.length < 2) return line;
  const gaps = heard.slice(1).map((at, i) => (line.times[at] as number) - (line.times[heard[i] as number] as number));
  const usual = [...gaps].sort((a, b) => a - b)[Math.floor(gaps.length / 2)] as number;
  const times: number[] = [];
  const values: (number | null)[] = [];
  heard.forEach((at, i) => {
    const time = line.times[at] as number;
    if (i > 0 && (gaps[i - 1] as number) > usual * 3.5) {
      times.push(time - (gaps[i - 1] as number) / 2);
      values.push(null);
    }
    times.push(time);
    values.push(line.values[at] ?? null);
  });
  return { times, values };
}

/** The value of the newest steps of a line; null when the last four say nothing. */
export function newest(line: Line): number | null {
  for (let i = line.values.length - 1; i >= Math.max(0, line.values.length - 4); i--) {
    const value = line.values[i];
    if (value !== null && value !== undefined) return value;
  }
  return null;
}

/** Lines of values that stand for whole steps: each in the middle of its own. */
export function stepLines(answer: { times: number[]; step_seconds: number }, values: (number | null)[][]): Line[] {
  const times = answer.times.map((t) => t + answer.step_seconds / 2);
  return values.map((one) => ({ times, values: one }));
}

const n = (value: number): string => value.toFixed(1);

/** SVG path data of a line with gaps where nothing was heard. `x` and `y` give places in pixels. */
export function linePath(line: Line, x: (t: number) => number, y: (v: number) => number): string {
  let path = "";
  let pen = false;
  for (let i = 0; i < line.times.length; i++) {
    const value = line.values[i];
    if (value === null || value === undefined) {
      pen = false;
      continue;
    }
    path += `${pen ? "L" : "M"}${n(x(line.times[i] as number))},${n(y(value))}`;
    pen = true;
  }
  return path;
}

/** Points that no line leads to: a line alone would not show them. */
export function lonePoints(line: Line): { time: number; value: number }[] {
  const there = (i: number) => line.values[i] !== null && line.values[i] !== undefined;
  return line.times.flatMap((time, i) =>
    there(i) && !there(i - 1) && !there(i + 1) ? [{ time, value: line.values[i] as number }] : [],
  );
}

/** The same as a closed area down to `base` pixels. */
export function areaPath(line: Line, x: (t: number) => number, y: (v: number) => number, base: number): string {
  let path = "";
  let open: string | undefined;
  let last = 0;
  for (let i = 0; i <= line.times.length; i++) {
    const value = line.values[i];
    if (value === null || value === undefined) {
      if (open) path += `L${n(last)},${n(base)}Z`;
      open = undefined;
      continue;
    }
    const at = x(line.times[i] as number);
    if (open === undefined) {
      open = n(at);
      path += `M${open},${n(base)}`;
    }
    path += `L${n(at)},${n(y(value))}`;
    last = at;
  }
  return path;
}

/** The index of the step that holds a moment, or -1. */
export function stepAt(times: number[], step: number, moment: number): number {
  const first = times[0];
  if (first === undefined) return -1;
  const index = Math.floor((moment - first) / step);
  return index >= 0 && index < times.length ? index : -1;
}

/** The value at a moment, or the last one before it within three steps. */
export function valueAt(line: Line, step: number, moment: number): number | null {
  const index = Math.min(stepAt(line.times, step, moment), line.times.length - 1);
  for (let i = index; i >= 0 && i > index - 3; i--) {
    const value = line.values[i];
    if (value !== null && value !== undefined) return value;
  }
  return null;
}

/** SVG path data of the area between two lines, in pieces where both are known. */
export function areaBetween(
  times: number[],
  low: (number | null)[],
  high: (number | null)[],
  x: (t: number) => number,
  y: (v: number) => number,
): string {
  let path = "";
  let piece: number[] = [];
  const close = () => {
    if (piece.length > 1) {
      const up = piece.map((i) => `${n(x(times[i] as number))},${n(y(high[i] as number))}`);
      const down = [...piece].reverse().map((i) => `${n(x(times[i] as number))},${n(y(low[i] as number))}`);
      path += `M${[...up, ...down].join("L")}Z`;
    }
    piece = [];
  };
  times.forEach((_, i) => {
    if (low[i] === null || high[i] === null || low[i] === undefined || high[i] === undefined) close();
    else piece.push(i);
  });
  close();
  return path;
}
