import type { Schemas } from "../api/client";

/** A dashboard is a sheet of twelve columns: panels flow over it in their order, as wide as each is. */

export type Body = Schemas["DashboardBody"];
export type Panel = Body["panels"][number];
export const COLUMNS = 12;
/** Widths that a panel may have: thirds, and the half. */
export const WIDTHS = [4, 6, 8, 12] as const;

/** The order in which panels are read: by row, then by column. */
export function inOrder<P extends { at: number[] }>(panels: P[]): P[] {
  return [...panels].sort((a, b) => (a.at[1] ?? 0) - (b.at[1] ?? 0) || (a.at[0] ?? 0) - (b.at[0] ?? 0));
}

/** Panels in their order, each in the next place it fits in. */
export function flowed<P extends { at: number[] }>(panels: P[]): P[] {
  let column = 0;
  let row = 0;
  let tallest = 0;
  return panels.map((panel) => {
    const width = Math.min(COLUMNS, panel.at[2] ?? COLUMNS);
    const height = panel.at[3] ?? 4;
    if (column + width > COLUMNS) {
      row += tallest;
      column = 0;
      tallest = 0;
    }
    const placed = { ...panel, at: [column, row, width, height] };
    column += width;
    tallest = Math.max(tallest, height);
    return placed;
  });
}

/** The panels with one of them put before another, or at the end. */
export function moved<P extends { at: number[] }>(panels: P[], from: number, to: number): P[] {
  const one = panels[from];
  if (!one || from === to) return panels;
  const rest = panels.toSpliced(from, 1);
  return flowed(rest.toSpliced(Math.min(to, rest.length), 0, one));
}

/** A panel one width wider or narrower. */
export function resized<P extends { at: number[] }>(panels: P[], place: number, turn: 1 | -1): P[] {
  return flowed(
    panels.map((panel, i) => {
      if (i !== place) return panel;
      const now = WIDTHS.findLastIndex((width) => width <= (panel.at[2] ?? COLUMNS));
      const width = WIDTHS[Math.min(WIDTHS.length - 1, Math.max(0, now + turn))] as number;
      return { ...panel, at: [panel.at[0] ?? 0, panel.at[1] ?? 0, width, panel.at[3] ?? 4] };
    }),
  );
}
