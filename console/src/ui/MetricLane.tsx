import type { ReactNode } from "react";
import type { MetricAnswer } from "../api/client";
import { scaled } from "../lib/format";
import type { Usual } from "../lib/queries";
import { areaBetween, bridged, newest, roundUp, stepLines, valueAt } from "../lib/scale";
import { type Bound, LaneBounds, LaneLine, strokeOf } from "./LaneLines";
import { LaneRow, useAxis } from "./Lanes";

/** Lines of one metric over the shared axis; the first has a pale area below it. */
export function MetricLane({
  name,
  label = name,
  shows,
  answer,
  colour = 0,
  top,
  bounds = [],
  height = 36,
  of,
  waiting,
  ticks = false,
  usual,
}: {
  name: string;
  /** What it is called where several have the same name. */
  label?: string;
  shows?: ReactNode;
  answer: MetricAnswer | undefined;
  /** Which series colour the first line has. */
  colour?: number;
  /** The upper end, unless the values and limits decide. */
  top?: number | undefined;
  bounds?: Bound[];
  height?: number;
  /** Said under the value, like "of 8 cores". */
  of?: string | undefined;
  waiting?: boolean;
  ticks?: boolean;
  /** Where values of the first line usually are. */
  usual?: Usual | undefined;
}) {
  const axis = useAxis();
  const lines = answer
    ? stepLines(
        answer,
        answer.series.map((s) => s.values),
      )
    : [];
  const drawn = lines.map(bridged);
  const found = lines.flatMap((line) => line.values.filter((v): v is number => v !== null));
  const most = Math.max(0, ...found);
  const usually = (usual?.high ?? []).filter((v): v is number => v !== null && v < most * 4);
  const near = bounds.map((b) => b.value).filter((v) => v < most * 4 || most === 0);
  const share = answer?.unit === "1" && most > 0.5 && most <= 1 ? 1 : undefined;
  const high = top ?? share ?? roundUp(Math.max(most * 1.05, ...usually, ...near.map((v) => v * 1.08), 1e-9));
  const low = Math.min(0, ...found);
  const y = (v: number) => height - 1 - ((v - low) / (high - low)) * (height - 4);
  const at = axis.cursor;
  const first = lines[0];
  const value = first && answer ? (at === undefined ? newest(first) : valueAt(first, answer.step_seconds, at)) : null;
  const said = scaled(value, answer?.unit ?? "");
  const summary = `${label}: ${answer?.series.length ? `${said.value} ${said.unit}` : "no values"}`;
  return (
    <LaneRow
      name={name}
      label={label}
      shows={answer?.note || shows}
      value={of ? `${said.value} ${said.unit}` : said.value}
      unit={of ?? (value === null ? "" : said.unit)}
      height={height}
    >
      <svg width={axis.width} height={height} className="block overflow-hidden" role="img" aria-label={summary}>
        <title>{summary}</title>
        {ticks && <Gridlines high={high} low={low} y={y} width={axis.width} unit={answer?.unit ?? ""} />}
        {usual && (
          <path
            d={areaBetween(usual.times, usual.low, usual.high, axis.x, y)}
            fill={strokeOf(colour)}
            opacity={0.14}
            stroke={strokeOf(colour)}
            strokeWidth="0.6"
          >
            <title>what is usual at this hour of the week</title>
          </path>
        )}
        {drawn.map((line, i) => (
          <LaneLine key={i} line={line} y={y} height={height} filled={i === 0} stroke={strokeOf(colour + i)} />
        ))}
        <LaneBounds bounds={bounds} low={low} high={high} y={y} />
        {!waiting && answer && !found.length && (
          <text x={8} y={height / 2 + 4} fill="var(--ink-2)" fontSize="12">
            nothing was heard in this span
          </text>
        )}
      </svg>
    </LaneRow>
  );
}

function Gridlines({
  high,
  low,
  y,
  width,
  unit,
}: {
  high: number;
  low: number;
  y: (v: number) => number;
  width: number;
  unit: string;
}) {
  return (
    <g>
      {[0.25, 0.5, 0.75, 1].map((part) => {
        const value = low + (high - low) * part;
        const said = scaled(value, unit);
        return (
          <g key={part}>
            <line x1={0} x2={width} y1={y(value)} y2={y(value)} stroke="var(--color-base-300)" strokeWidth="1" />
            <text x={2} y={y(value) + 11} fontSize="11" fill="var(--ink-2)">
              {said.value} {said.unit}
            </text>
          </g>
        );
      })}
    </g>
  );
}
