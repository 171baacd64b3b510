import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** What is asked anew, by its name; what is empty is left out. */
type Changes = Record<string, string | string[]>;
type Change = (changes: Changes | ((held: URLSearchParams) => Changes), back?: boolean) => void;

/** What the address asks, and a way to change some of it. It replaces the address unless the way back should lead to it
 * as it was. What is shown follows at once: a tick that waited would jump back first. */
export function useAddress(): [URLSearchParams, Change] {
  const [parameters, setParameters] = useSearchParams();
  const change = useCallback<Change>(
    (changes, back = false) =>
      setParameters(
        (held) => {
          const next = new URLSearchParams(held);
          for (const [name, value] of Object.entries(typeof changes === "function" ? changes(held) : changes)) {
            next.delete(name);
            for (const one of Array.isArray(value) ? value : [value]) if (one) next.append(name, one);
          }
          return next;
        },
        { replace: !back, flushSync: true },
      ),
    [setParameters],
  );
  return [parameters, change];
}
