import type { ReactNode } from "react";
import type { MetricAnswer } from "../api/client";
import { scaled } from "../lib/format";
import type { Usual } from "../lib/queries";
import { areaBetween, areaPath, bridged, type Line, linePath, lonePoints, roundUp, valueAt } from "../lib/scale";
import { LaneRow, useAxis } from "./Lanes";

export interface Bound {
  value: number;
  severity: "warning" | "critical";
}

const STROKES = ["var(--series-1)", "var(--series-2)", "var(--series-3)", "var(--series-4)"];

/** Lines of one metric over the shared axis; the first has a pale area below it. */
export function MetricLane({
  name,
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
  const half = (answer?.step_seconds ?? 0) / 2;
  const lines: Line[] = (answer?.series ?? []).map((s) => ({
    times: (answer?.times ?? []).map((t) => t + half),
    values: s.values,
  }));
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
  const value = first && answer ? (at === undefined ? latest(first) : valueAt(first, answer.step_seconds, at)) : null;
  const said = scaled(value, answer?.unit ?? "");
  const summary = `${name}: ${answer?.series.length ? `${said.value} ${said.unit}` : "no values"}`;
  return (
    <LaneRow
      name={name}
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
            fill={STROKES[colour % 4]}
            opacity={0.14}
            stroke={STROKES[colour % 4]}
            strokeWidth="0.6"
          >
            <title>what is usual at this hour of the week</title>
          </path>
        )}
        {drawn.map((line, i) => (
          <g key={i}>
            {i === 0 && (
              <path d={areaPath(line, axis.x, y, height)} fill={STROKES[colour % 4]} opacity={0.16} stroke="none" />
            )}
            <path
              d={linePath(line, axis.x, y)}
              fill="none"
              stroke={STROKES[(colour + i) % 4]}
              strokeWidth="1.4"
              strokeLinejoin="round"
            />
            {lonePoints(line).map((point) => (
              <circle
                key={point.time}
                cx={axis.x(point.time)}
                cy={y(point.value)}
                r={2.5}
                fill={STROKES[(colour + i) % 4]}
              />
            ))}
          </g>
        ))}
        {bounds.map(
          (bound) =>
            bound.value <= high && (
              <line
                key={bound.severity}
                x1={0}
                x2={axis.width}
                y1={y(bound.value)}
                y2={y(bound.value)}
                stroke={bound.severity === "critical" ? "var(--state-critical)" : "var(--state-warning)"}
                strokeWidth="1.2"
                strokeDasharray="5 3"
              />
            ),
        )}
        {!waiting && answer && !found.length && (
          <text x={8} y={height / 2 + 4} fill="var(--ink-2)" fontSize="12">
            nothing was heard in this span
          </text>
        )}
      </svg>
    </LaneRow>
  );
}

function latest(line: Line): number | null {
  for (let i = line.values.length - 1; i >= Math.max(0, line.values.length - 4); i--) {
    const value = line.values[i];
    if (value !== null && value !== undefined) return value;
  }
  return null;
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
