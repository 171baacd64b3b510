import type { Schemas } from "../api/client";

type Station = Schemas["Station"];

/** Where a station stands on the diagram, and the lines between stations. */
export interface Placed {
  station: Station;
  x: number;
  y: number;
}

export interface Line {
  from: string;
  to: string;
  path: string;
  /** Whether trouble travels along it: what is needed is not well. */
  bad: boolean;
}

export const ROW = 76;
export const TOP = 44;
/** How far below a station the gap under its label is. */
const GAP = 58;

/**
 * Stations from the users' side on the left to the storage side on the right, one column a rank; in each column near
 * the mean height of those that need them, so that lines cross little.
 */
export function placed(stations: Station[], needs: Schemas["Need"][], width: number): Placed[] {
  const columns = Math.max(0, ...stations.map((s) => s.rank)) + 1;
  const rows = Math.max(1, ...Array.from({ length: columns }, (_, r) => stations.filter((s) => s.rank === r).length));
  const step = width / columns;
  const heights = new Map<string, number>();
  const out: Placed[] = [];
  for (let rank = 0; rank < columns; rank += 1) {
    const mine = stations.filter((s) => s.rank === rank);
    const wish = new Map(
      mine.map((s, i) => {
        const above = needs.filter((n) => n.to.includes(s.name)).map((n) => heights.get(n.from));
        const known = above.filter((h): h is number => h !== undefined);
        return [s.name, known.length ? known.reduce((a, b) => a + b, 0) / known.length : i * 1e-3];
      }),
    );
    const order = [...mine].sort(
      (a, b) => (wish.get(a.name) ?? 0) - (wish.get(b.name) ?? 0) || a.name.localeCompare(b.name),
    );
    order.forEach((station, i) => {
      const y = TOP + (Math.floor((rows - order.length) / 2) + i) * ROW;
      heights.set(station.name, y);
      out.push({ station, x: rank * step + 16, y });
    });
  }
  return out;
}

/** Lines of an edge: level, then at 45 degrees, then level again, as on the plan of a ferry's lines. */
export function lines(all: Placed[], needs: Schemas["Need"][], width: number): Line[] {
  const at = new Map(all.map((p) => [p.station.name, p]));
  const columns = Math.max(0, ...all.map((p) => p.station.rank)) + 1;
  const out: Line[] = [];
  for (const need of needs) {
    for (const to of need.to) {
      const a = at.get(need.from);
      const b = at.get(to);
      if (!a || !b || need.from === to) continue;
      const long = b.station.rank - a.station.rank > 1;
      if (long) {
        // Past the stations between, in the gap below their labels.
        const gap = a.y + GAP;
        const turn = a.x + width / columns - GAP - 40;
        const rise = Math.abs(gap - b.y);
        const path = `M${a.x} ${a.y}H${turn}L${turn + GAP} ${gap}H${Math.max(turn + GAP, b.x - rise - 14)}L${b.x - 14} ${b.y}H${b.x}`;
        out.push({ from: need.from, to, path, bad: unwell(b.station) });
        continue;
      }
      const high = Math.abs(b.y - a.y);
      const turn = Math.max(a.x + 8, b.x - 26 - Math.min(high, width / columns / 2));
      const path = high
        ? `M${a.x} ${a.y}H${turn}L${Math.min(b.x - 14, turn + Math.min(high, b.x - turn))} ${b.y}H${b.x}`
        : `M${a.x} ${a.y}H${b.x}`;
      out.push({ from: need.from, to, path, bad: unwell(b.station) });
    }
  }
  return out;
}

function unwell(station: Station): boolean {
  return station.state !== "ok" && station.state !== "paused";
}
