/** The span: the stretch of time every page answers for, kept in the address. */

export interface Span {
  /** As in the address: `-3h` or unix seconds. */
  from: string;
  to: string;
  /** Unix seconds. */
  start: number;
  end: number;
  /** Whether the span ends now and moves on. */
  live: boolean;
}

export const PRESETS: ReadonlyArray<{ from: string; name: string }> = [
  { from: "-30m", name: "30 min" },
  { from: "-3h", name: "3 h" },
  { from: "-24h", name: "24 h" },
  { from: "-7d", name: "7 d" },
];
export const DEFAULT_FROM = "-3h";
const SECONDS: Record<string, number> = { s: 1, m: 60, h: 3600, d: 86400 };

/** Rows of a long list that are asked for first. */
export const FIRST_ROWS = 60;

/** How often a live span moves on, s. */
const PACE = 15;

/** The end of a live span, unix seconds. */
export function pacedNow(): number {
  return Math.floor(Date.now() / 1000 / PACE) * PACE;
}

/** Seconds of `-30m`; undefined for what is no relative time. */
export function relativeSeconds(text: string): number | undefined {
  const match = /^-(\d{1,6})([smhd])$/.exec(text);
  const unit = match ? SECONDS[match[2] as string] : undefined;
  return match && unit ? Number(match[1]) * unit : undefined;
}

/** The span an address asks for, at the moment `now` (unix seconds). */
export function readSpan(parameters: URLSearchParams, now: number): Span {
  const from = parameters.get("from") ?? DEFAULT_FROM;
  const to = parameters.get("to") ?? "now";
  const back = relativeSeconds(from);
  if (to === "now" && back !== undefined) {
    return { from, to, start: now - back, end: now, live: true };
  }
  const start = Number(from);
  const end = Number(to);
  if (Number.isFinite(start) && Number.isFinite(end) && end > start) {
    return { from, to, start, end, live: false };
  }
  const usual = relativeSeconds(DEFAULT_FROM) ?? 10800;
  return { from: DEFAULT_FROM, to: "now", start: now - usual, end: now, live: true };
}

/** The address parameters of fixed ends. */
export function fixedSpan(start: number, end: number): { from: string; to: string } {
  const a = Math.floor(Math.min(start, end));
  const b = Math.ceil(Math.max(start, end));
  return { from: String(a), to: String(Math.max(b, a + 60)) };
}

/** The span moved by half its length. */
export function stepSpan(span: Span, direction: -1 | 1, now: number): { from: string; to: string } {
  const length = span.end - span.start;
  const start = span.start + (direction * length) / 2;
  const end = start + length;
  if (end >= now - 1) return { from: `-${Math.max(1, Math.round(length / 60))}m`, to: "now" };
  return fixedSpan(start, end);
}

/** An RFC 3339 time for the API. */
export function instant(unixSeconds: number): string {
  return new Date(unixSeconds * 1000).toISOString();
}
