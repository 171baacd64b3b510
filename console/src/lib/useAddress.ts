import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** What the address asks, and a way to change some of it: what is empty is left out. It replaces the address unless the
 * way back should lead to it as it was. What is shown follows at once: a tick that waited would jump back first. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string>, back?: boolean) => void] {
  const [parameters, setParameters] = useSearchParams();
  const change = useCallback(
    (changes: Record<string, string>, back = false) =>
      setParameters(
        (held) => {
          const next = new URLSearchParams(held);
          for (const [key, value] of Object.entries(changes)) {
            if (value) next.set(key, value);
            else next.delete(key);
          }
          return next;
        },
        { replace: !back, flushSync: true },
      ),
    [setParameters],
  );
  return [parameters, change];
}
