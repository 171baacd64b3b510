import { areaPath, type Line, linePath, lonePoints } from "../lib/scale";
import { useAxis } from "./Lanes";

export interface Bound {
  value: number;
  severity: "warning" | "critical";
}

const STROKES = ["var(--series-1)", "var(--series-2)", "var(--series-3)", "var(--series-4)"];
const DASHES = ["", "6 2", "2 2"];

/** Colour of the nth line of a lane. */
export function strokeOf(n: number): string {
  return STROKES[n % STROKES.length] as string;
}

/** Dashes of the nth line of a lane: lines of one colour differ by these. */
export function dashOf(n: number): string | undefined {
  return DASHES[Math.floor(n / STROKES.length) % DASHES.length] || undefined;
}

/** One line over the shared axis, points that stand alone as dots. */
export function LaneLine({
  line,
  y,
  height,
  filled,
  stroke,
  dash,
}: {
  line: Line;
  y: (v: number) => number;
  height: number;
  /** A pale area lies below it. */
  filled: boolean;
  stroke: string;
  dash?: string | undefined;
}) {
  const axis = useAxis();
  return (
    <g>
      {filled && <path d={areaPath(line, axis.x, y, height)} fill={stroke} opacity={0.16} stroke="none" />}
      <path
        d={linePath(line, axis.x, y)}
        fill="none"
        stroke={stroke}
        strokeWidth="1.4"
        strokeDasharray={dash}
        strokeLinejoin="round"
      />
      {lonePoints(line).map((point) => (
        <circle key={point.time} cx={axis.x(point.time)} cy={y(point.value)} r={2.5} fill={stroke} />
      ))}
    </g>
  );
}

/** The limits of rules that lie within a lane. */
export function LaneBounds({
  bounds,
  low,
  high,
  y,
}: {
  bounds: Bound[];
  low: number;
  high: number;
  y: (v: number) => number;
}) {
  const axis = useAxis();
  return bounds
    .filter((bound) => bound.value <= high && bound.value >= low)
    .map((bound) => (
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
    ));
}
