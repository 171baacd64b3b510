import type { MetricAnswer } from "../api/client";
import { scaled, withUnit } from "../lib/format";
import type { Usual } from "../lib/queries";
import { stacked } from "../lib/question";
import { areaBetween, bridged, type Line, linePath, newest, roundUp, stepLines, valueAt } from "../lib/scale";
import { type Bound, dashOf, LaneBounds, LaneLine, strokeOf } from "../ui/LaneLines";
import { LaneRow, useAxis } from "../ui/Lanes";

/** Pixels of a row of names. */
const LEGEND = 18;

export interface Drawing {
  stack: boolean;
  logarithmic: boolean;
  /** Ends of the axis, where they are fixed. */
  low?: number | undefined;
  high?: number | undefined;
}

/** Some lines of one answer over the shared axis, with what they are compared with. */
export function ChartLane({
  answer,
  which,
  names,
  name,
  label,
  shows,
  beside,
  besideName,
  usual,
  bounds,
  stack,
  scale,
  height,
  colour,
}: {
  answer: MetricAnswer;
  /** Which of its series. */
  which: number[];
  /** What each of all the series is called. */
  names: string[];
  name: string;
  label: string;
  shows: string;
  beside: MetricAnswer | undefined;
  besideName: string;
  usual: Usual | undefined;
  bounds: Bound[];
  stack: boolean;
  scale: Scale;
  height: number;
  colour: number;
}) {
  const axis = useAxis();
  const series = which.flatMap((i) => answer.series[i] ?? []);
  const lines = stepLines(
    answer,
    series.map((s) => s.values),
  );
  const drawn = stack ? stepLines(answer, stacked(series.map((s) => s.values))) : lines;
  const before = series.map((s) => besideLine(beside, s.attributes));
  const y = (v: number) => height - 2 - scale.part(v) * (height - 6);
  const at = axis.cursor;
  const values = lines.map((line) => (at === undefined ? newest(line) : valueAt(line, answer.step_seconds, at)));
  const shown = which.length === 1 ? (values[0] ?? null) : null;
  const then = before[0];
  const was = then && beside && which.length === 1 ? valueAt(then, beside.step_seconds, at ?? axis.end - 1) : null;
  const said = scaled(shown, answer.unit);
  const legend = which.length > 1 ? LEGEND * Math.ceil(which.length / Math.max(1, Math.floor(axis.width / 190))) : 0;
  return (
    <LaneRow
      name={name}
      label={label}
      shows={shows}
      value={which.length === 1 ? `${said.value} ${said.unit}` : `${which.length} lines`}
      unit={was !== null ? `${besideName} ${withUnit(was, answer.unit)}` : ""}
      height={height + legend}
    >
      <svg
        width={axis.width}
        height={height}
        className="block overflow-hidden"
        role="img"
        aria-label={told(name, series, values, answer.unit)}
      >
        <title>{name}</title>
        <text
          x={2}
          y={11}
          fontSize="11"
          fill="var(--ink-2)"
          stroke="var(--color-base-100)"
          strokeWidth="3"
          paintOrder="stroke"
        >
          {withUnit(scale.high, answer.unit)}
        </text>
        {usual && (
          <path d={areaBetween(usual.times, usual.low, usual.high, axis.x, y)} fill="var(--state-ok)" opacity={0.14}>
            <title>what is usual at this hour of the week</title>
          </path>
        )}
        {before.map(
          (line, i) =>
            line && (
              <path
                key={`before${which[i]}`}
                d={linePath(bridged(line), axis.x, y)}
                fill="none"
                stroke="var(--ink-2)"
                strokeWidth="1.1"
                strokeDasharray="4 3"
              />
            ),
        )}
        {drawn.map((line, i) => (
          <LaneLine
            key={which[i]}
            line={bridged(line)}
            y={y}
            height={height}
            filled={which.length === 1 || stack}
            stroke={strokeOf(colour + i)}
            dash={dashOf(i)}
          />
        ))}
        <LaneBounds bounds={bounds} low={scale.low} high={scale.high} y={y} />
        {!lines.some((line) => line.values.some((v) => v !== null)) && (
          <text x={8} y={height / 2 + 4} fill="var(--ink-2)" fontSize="12">
            nothing was heard in this span
          </text>
        )}
      </svg>
      {which.length > 1 && (
        <Legend names={which.map((i) => names[i] ?? "")} values={values} unit={answer.unit} colour={colour} />
      )}
    </LaneRow>
  );
}

/** Names and values at the cursor of lines that share a lane. */
function Legend({
  names,
  values,
  unit,
  colour,
}: {
  names: string[];
  values: (number | null)[];
  unit: string;
  colour: number;
}) {
  return (
    <ul className="flex flex-wrap gap-x-4 font-dense text-xs">
      {names.map((name, i) => (
        <li key={name} className="whitespace-nowrap">
          <svg width="18" height="8" aria-hidden="true" className="mr-1 inline">
            <line
              x1="0"
              x2="18"
              y1="4"
              y2="4"
              stroke={strokeOf(colour + i)}
              strokeWidth="2"
              strokeDasharray={dashOf(i)}
            />
          </svg>
          {name} <span className="font-semibold">{withUnit(values[i] ?? null, unit)}</span>
        </li>
      ))}
    </ul>
  );
}

/** What tells series apart, each by its own: what all of them have alike is left out. */
export function namesOf(series: MetricAnswer["series"]): string[] {
  const first = series[0];
  if (!first || series.length < 2) return series.map((one) => nameOf(one.attributes));
  const keys = Object.keys(first.attributes).filter((key) =>
    series.some((one) => one.attributes[key] !== first.attributes[key]),
  );
  return series.map((one) => nameOf(Object.fromEntries(keys.map((key) => [key, one.attributes[key] ?? ""]))));
}

export function nameOf(attributes: Record<string, string>): string {
  return Object.values(attributes).filter(Boolean).join(" ") || "all together";
}

function besideLine(beside: MetricAnswer | undefined, attributes: Record<string, string>): Line | undefined {
  const key = JSON.stringify(attributes);
  const found = beside?.series.find((s) => JSON.stringify(s.attributes) === key);
  return beside && found ? stepLines(beside, [found.values])[0] : undefined;
}

function told(name: string, series: MetricAnswer["series"], values: (number | null)[], unit: string): string {
  const said = series.map((one, i) => `${nameOf(one.attributes)} ${withUnit(values[i] ?? null, unit)}`);
  return `${name}: ${said.join(", ") || "no values"}`;
}

export interface Scale {
  low: number;
  high: number;
  /** Where between the ends a value lies, 0 to 1. */
  part: (value: number) => number;
}

/** One axis for all lines of a question, so that they can be compared from lane to lane. */
export function scaleOf(
  answer: MetricAnswer,
  lanes: number[][],
  beside: MetricAnswer | undefined,
  bands: Usual[],
  bounds: Bound[],
  drawing: Drawing,
): Scale {
  const values = answer.series.map((s) => s.values);
  const drawn = drawing.stack ? lanes.flatMap((which) => stacked(which.map((i) => values[i] ?? []))) : values;
  const every = [...drawn, ...(beside?.series.map((s) => s.values) ?? [])].flat();
  const found = every.filter((v): v is number => v !== null);
  const most = Math.max(0, ...found);
  const near = [...bands.flatMap((band) => band.high), ...bounds.map((b) => b.value)].filter(
    (v): v is number => v !== null && v < most * 2,
  );
  const share = answer.unit === "1" && most > 0.5 && most <= 1 ? 1 : undefined;
  const high = drawing.high ?? share ?? roundUp(Math.max(most * 1.05, ...near.map((v) => v * 1.05), 1e-9));
  if (drawing.logarithmic) {
    const least = Math.min(...found.filter((v) => v > 0), high);
    const low =
      drawing.low && drawing.low > 0 ? drawing.low : 10 ** Math.floor(Math.log10(Math.max(least, high * 1e-9)));
    const wide = Math.log10(high / low) || 1;
    return { low, high, part: (v) => Math.max(0, Math.log10(Math.max(v, low) / low) / wide) };
  }
  const low = drawing.low ?? Math.min(0, ...found);
  return { low, high, part: (v) => (v - low) / (high - low || 1) };
}
