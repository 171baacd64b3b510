import { type KeyboardEvent, type PointerEvent, useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { dayAndTime, withUnit } from "../lib/format";
import { areaBetween, bridged, linePath, timeTicks } from "../lib/scale";
import { useWidth } from "../ui/useWidth";

const STROKES = ["var(--series-1)", "var(--series-2)", "var(--series-3)", "var(--series-4)", "var(--ink-2)"];
const HEIGHT = 190;
const FOOT = 16;
const STATES = { warning: "var(--state-warning)", critical: "var(--state-critical)" };

export interface Handle {
  severity: "warning" | "critical";
  value: number;
}

type Points = Schemas["Points"];
type Opened = Schemas["RehearsedAlert"];

/** From the lowest to the highest of all that is drawn, with a little air. */
function range(points: Points, handles: Handle[]): { low: number; high: number } {
  const all = points.lines.flatMap((line) => [...line.values, ...(line.low ?? []), ...(line.high ?? [])]);
  const known = [...all, ...handles.map((h) => h.value)].filter((v): v is number => v !== null);
  const low = Math.min(...known, 0);
  const high = Math.max(...known, low + 1e-9);
  return { low, high: high + (high - low) * 0.08 };
}

/** What the worst groups measured, when the rule would have opened, and its limits, which can be dragged. */
export function RuleChart({
  points,
  opened,
  unit,
  handles,
  move,
}: {
  points: Points;
  opened: Opened[];
  unit: string;
  handles: Handle[];
  move?: ((severity: Handle["severity"], value: number) => void) | undefined;
}) {
  const [box, width] = useWidth<HTMLDivElement>(520);
  const { low, high } = useMemo(() => range(points, handles), [points, handles]);
  const start = points.times[0] ?? 0;
  const end = points.times[points.times.length - 1] ?? start + 1;
  const x = (t: number) => ((t - start) / Math.max(end - start, 1)) * width;
  const y = (v: number) => HEIGHT - FOOT - ((v - low) / (high - low)) * (HEIGHT - FOOT);
  const band = points.lines[0];
  return (
    <div ref={box} className="relative border-base-300 border-b">
      <svg width={width} height={HEIGHT} role="img" aria-label="What was measured, and when the rule would have opened">
        {opened.map((one) => (
          <rect
            key={`${one.host}${one.opened_at}${JSON.stringify(one.attributes)}`}
            x={x(one.opened_at)}
            width={Math.max(2, x(one.recovered_at ?? end) - x(one.opened_at))}
            y={0}
            height={HEIGHT - FOOT}
            fill={STATES[one.severity === "critical" ? "critical" : "warning"]}
            opacity={0.14}
          />
        ))}
        {band?.low && band.high && (
          <path
            d={areaBetween(points.times, band.low, band.high, x, y)}
            fill="var(--series-1)"
            opacity={0.15}
            stroke="none"
          />
        )}
        {points.lines.map((line, i) => (
          <path
            key={`${line.host}${JSON.stringify(line.attributes)}`}
            d={linePath(bridged({ times: points.times, values: line.values }), x, y)}
            fill="none"
            stroke={STROKES[i % STROKES.length]}
            strokeWidth={i === 0 ? 1.6 : 1}
            strokeLinejoin="round"
          />
        ))}
        {timeTicks(start, end, Math.max(2, Math.floor(width / 110))).map((t) => (
          <text
            key={t}
            x={x(t)}
            y={HEIGHT - 3}
            fontSize="11"
            fill="var(--ink-2)"
            textAnchor={x(t) < 24 ? "start" : x(t) > width - 24 ? "end" : "middle"}
          >
            {dayAndTime(t, end - start)}
          </text>
        ))}
        <text x={2} y={11} fontSize="11" fill="var(--ink-2)">
          {withUnit(high, unit)}
        </text>
      </svg>
      {handles.map((handle) => (
        <Draggable key={handle.severity} handle={handle} unit={unit} y={y} low={low} high={high} move={move} />
      ))}
    </div>
  );
}

/** Three digits that count are what somebody means by dragging. */
const rounded = (value: number): number => Number(value.toPrecision(3));

function Draggable({
  handle,
  unit,
  y,
  low,
  high,
  move,
}: {
  handle: Handle;
  unit: string;
  y: (value: number) => number;
  low: number;
  high: number;
  move?: ((severity: Handle["severity"], value: number) => void) | undefined;
}) {
  const [dragging, setDragging] = useState(false);
  const colour = STATES[handle.severity];
  const valueAt = (event: PointerEvent): number => {
    const around = event.currentTarget.parentElement?.getBoundingClientRect();
    const place = event.clientY - (around?.top ?? 0);
    return rounded(low + ((HEIGHT - FOOT - place) / (HEIGHT - FOOT)) * (high - low));
  };
  const key = (event: KeyboardEvent) => {
    const turn = event.key === "ArrowUp" ? 1 : event.key === "ArrowDown" ? -1 : 0;
    if (!turn || !move) return;
    event.preventDefault();
    move(handle.severity, rounded(handle.value + (turn * (high - low)) / 100));
  };
  return (
    <div
      className={`absolute inset-x-0 h-4 touch-none ${move ? "cursor-ns-resize" : ""}`}
      style={{ top: y(handle.value) - 8 }}
      role="slider"
      aria-label={`${handle.severity} limit; arrow keys move it`}
      aria-valuenow={handle.value}
      aria-valuemin={low}
      aria-valuemax={high}
      aria-valuetext={withUnit(handle.value, unit)}
      aria-disabled={!move}
      tabIndex={move ? 0 : -1}
      onKeyDown={key}
      onPointerDown={(event) => {
        if (!move) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        setDragging(true);
      }}
      onPointerMove={(event) => dragging && move?.(handle.severity, valueAt(event))}
      onPointerUp={() => setDragging(false)}
    >
      <div className="absolute inset-x-0 top-2 border-t border-dashed" style={{ borderColor: colour }} />
      <span className="absolute right-1 -top-2 bg-base-100/80 px-1 font-dense text-xs" style={{ color: colour }}>
        {handle.severity} {withUnit(handle.value, unit)}
      </span>
    </div>
  );
}
