import { useCallback, useEffect, useMemo, useState } from "react";
import { fixedSpan, pacedNow, readSpan, type Span } from "./span";
import { useAddress } from "./useAddress";

/** The span of the address, moving on while it is live. */
export function useSpan(): {
  span: Span;
  now: number;
  setSpan: (next: { from: string; to: string }) => void;
  brush: (a: number, b: number) => void;
} {
  const [parameters, change] = useAddress();
  const [now, setNow] = useState(pacedNow);
  useEffect(() => {
    const timer = setInterval(() => setNow(pacedNow()), 1000);
    return () => clearInterval(timer);
  }, []);
  const from = parameters.get("from");
  const to = parameters.get("to");
  const span = useMemo(() => {
    const wanted = new URLSearchParams();
    if (from) wanted.set("from", from);
    if (to) wanted.set("to", to);
    return readSpan(wanted, now);
  }, [from, to, now]);
  const setSpan = useCallback(
    (next: { from: string; to: string }) =>
      change({ from: next.from, to: next.to === "now" ? "" : next.to, drawn: "" }, true),
    [change],
  );
  const brush = useCallback((a: number, b: number) => setSpan(fixedSpan(a, b)), [setSpan]);
  return { span, now, setSpan, brush };
}

/** The address of a page with the span of this one kept, and what else it is asked. */
export function withSpan(path: string, parameters: URLSearchParams, more: Record<string, string> = {}): string {
  const kept = new URLSearchParams(more);
  for (const name of ["from", "to"]) {
    const value = parameters.get(name);
    if (value) kept.set(name, value);
  }
  const text = kept.toString();
  return text ? `${path}?${text}` : path;
}
