import type { State, Stretch } from "../api/client";
import { moment, plural } from "../lib/format";
import { COLOUR, HEIGHT, STATES } from "../lib/states";

export interface Piece {
  state: State;
  start: number;
  end: number;
}

/** The changes of a state as stretches within a span. */
export function pieces(changes: Stretch[], start: number, end: number): Piece[] {
  return changes
    .map((change, i) => ({
      state: change.state,
      start: Math.max(start, change.at),
      end: Math.min(end, changes[i + 1]?.at ?? end),
    }))
    .filter((piece) => piece.end > piece.start);
}

const AS_THEY_ARE: Partial<Record<State, string>> = {};

/** A state over time: the worse, the taller. `names` are other words for the states. */
export function Ribbon({
  changes,
  start,
  end,
  height = 16,
  names = AS_THEY_ARE,
}: {
  changes: Stretch[];
  start: number;
  end: number;
  height?: number;
  names?: Partial<Record<State, string>>;
}) {
  const found = pieces(changes, start, end);
  const words = found
    .filter((p) => p.state !== "ok")
    .slice(-3)
    .map((p) => `${names[p.state] ?? p.state} from ${moment(p.start, end)}`)
    .join(", ");
  const always = `${names.ok ?? "ok"} all the time`;
  return (
    <svg
      className="block w-full"
      height={height}
      viewBox="0 0 1000 100"
      preserveAspectRatio="none"
      role="img"
      aria-label={words || always}
    >
      <title>{words || always}</title>
      {found.map((piece) => {
        const x = ((piece.start - start) / (end - start)) * 1000;
        const tall = HEIGHT[piece.state] * 100;
        const wide = Math.max(2, ((piece.end - piece.start) / (end - start)) * 1000);
        return <rect key={piece.start} x={x} y={100 - tall} width={wide} height={tall} fill={COLOUR[piece.state]} />;
      })}
    </svg>
  );
}

/** How many things are in each state, side by side, the worst on the right and tallest. */
export function Proportion({ states, total }: { states: Record<string, number>; total: number }) {
  let at = 0;
  const order = [...STATES].reverse();
  const words = STATES.filter((s) => states[s])
    .map((s) => `${states[s]} ${s}`)
    .join(", ");
  return (
    <svg className="block h-4 w-full" viewBox="0 0 1000 100" preserveAspectRatio="none" role="img" aria-label={words}>
      <title>{words || plural(0, "host")}</title>
      {order.map((state) => {
        const count = states[state] ?? 0;
        if (!count || !total) return null;
        const wide = (count / total) * 1000;
        const tall = state === "silent" ? 60 : HEIGHT[state] * 100;
        const x = at;
        at += wide;
        return (
          <rect key={state} x={x} y={100 - tall} width={Math.max(wide - 6, 4)} height={tall} fill={COLOUR[state]} />
        );
      })}
    </svg>
  );
}
