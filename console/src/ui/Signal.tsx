import type { State } from "../api/client";
import { COLOUR } from "../lib/states";

/**
 * The signal glyph: a post with a foot and an arm. Arm upright = ok, slanted = warning, level = critical,
 * a ring and no arm = silent, level arm crossed by a bar = paused.
 */
export function Signal({ state, size = 18, label }: { state: State; size?: number; label?: string | false }) {
  const named = label === false ? { "aria-hidden": true as const } : { role: "img", "aria-label": label ?? state };
  const colour = COLOUR[state];
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" className="inline-block shrink-0" fill="none" {...named}>
      <title>{label === false ? state : (label ?? state)}</title>
      <path d="M4 22h7M7.5 22V7" stroke={colour} strokeWidth="2.6" strokeLinecap="round" />
      {state === "ok" && <rect x="4" y="1.5" width="7" height="13" rx="1.8" fill={colour} />}
      {state === "warning" && (
        <rect x="6" y="4.4" width="15" height="6.6" rx="1.8" fill={colour} transform="rotate(-45 7.5 7.7)" />
      )}
      {state === "critical" && <rect x="5" y="3.5" width="18" height="7.6" rx="1.8" fill={colour} />}
      {state === "silent" && <circle cx="7.5" cy="6.2" r="3.6" stroke={colour} strokeWidth="2.6" />}
      {state === "paused" && (
        <>
          <rect x="5" y="5" width="18" height="6" rx="1.6" fill={colour} />
          <path d="M11 1.5 19 14.5" stroke={colour} strokeWidth="2.6" strokeLinecap="round" />
        </>
      )}
    </svg>
  );
}

/** A state as its glyph and its word. */
export function StateWord({ state, size }: { state: State; size?: number }) {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Signal state={state} size={size ?? 16} label={false} />
      {state}
    </span>
  );
}
