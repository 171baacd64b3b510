import { linePath } from "../lib/scale";

/** A small line of how a value went; what is missing is a gap. */
export function Sliver({
  values,
  width = 52,
  height = 18,
}: {
  values: (number | null)[];
  width?: number;
  height?: number;
}) {
  const known = values.filter((v): v is number => v !== null);
  if (known.length < 2) return null;
  const low = Math.min(...known);
  const wide = Math.max(...known) - low || 1;
  const times = values.map((_, i) => i);
  const line = linePath(
    { times, values },
    (t) => 1 + (t / Math.max(1, values.length - 1)) * (width - 2),
    (v) => height - 2 - ((v - low) / wide) * (height - 4),
  );
  return (
    <svg width={width} height={height} aria-hidden="true" className="shrink-0">
      <path
        // A value between two gaps is a dot: a line of no length with round ends.
        d={line.replace(/M[^ML]+(?=M|$)/g, "$&h0")}
        fill="none"
        stroke="var(--series-1)"
        strokeWidth="1.3"
        strokeLinecap="round"
      />
    </svg>
  );
}
