import { useMemo } from "react";
import { useAddress } from "./useAddress";

/** The span drawn on the lanes, in the address as `drawn=START-END`. */
export function useDrawn() {
  const [parameters, change] = useAddress();
  const text = parameters.get("drawn") ?? "";
  const drawn = useMemo(() => {
    const [start, end] = text.split("-").map(Number);
    return start && end && end > start ? { start, end } : undefined;
  }, [text]);
  return {
    drawn,
    draw: (start: number, end: number) => change({ drawn: `${Math.floor(start)}-${Math.ceil(end)}` }),
    clear: () => change({ drawn: "" }),
  };
}
