import { useCallback } from "react";
import { useAddress } from "./useAddress";

/** The filter of the address, and how another one is put there; an empty one is left out. */
export function useWhere(): [where: string, keep: (wanted: string) => void] {
  const [parameters, change] = useAddress();
  const keep = useCallback((wanted: string) => change({ where: wanted.trim() && wanted }, true), [change]);
  return [parameters.get("where") ?? "", keep];
}
