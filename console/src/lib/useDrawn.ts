import { useMemo } from "react";
import { useSearchParams } from "react-router";

/** The span drawn on the lanes, in the address as `drawn=START-END`. */
export function useDrawn() {
  const [parameters, setParameters] = useSearchParams();
  const text = parameters.get("drawn") ?? "";
  const drawn = useMemo(() => {
    const [start, end] = text.split("-").map(Number);
    return start && end && end > start ? { start, end } : undefined;
  }, [text]);
  const set = (value: string | undefined) =>
    setParameters(
      (held) => {
        const next = new URLSearchParams(held);
        if (value) next.set("drawn", value);
        else next.delete("drawn");
        return next;
      },
      { replace: true },
    );
  return {
    drawn,
    draw: (start: number, end: number) => set(`${Math.floor(start)}-${Math.ceil(end)}`),
    clear: () => set(undefined),
  };
}
