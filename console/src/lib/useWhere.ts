import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** The filter of the address, and how another one is put there; an empty one is left out. */
export function useWhere(): [where: string, keep: (wanted: string) => void] {
  const [parameters, setParameters] = useSearchParams();
  const keep = useCallback(
    (wanted: string) =>
      setParameters((held) => {
        const next = new URLSearchParams(held);
        if (wanted.trim()) next.set("where", wanted);
        else next.delete("where");
        return next;
      }),
    [setParameters],
  );
  return [parameters.get("where") ?? "", keep];
}
