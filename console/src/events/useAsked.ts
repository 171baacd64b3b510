import { useCallback, useMemo } from "react";
import { filterOfEvents } from "../lib/asks";
import { useAddress } from "../lib/useAddress";

export interface Asked {
  text: string;
  where: string;
  floor: string;
  saved: string;
  /** The typed filter and the floor of severity, together. */
  filter: string;
  keep: (changes: Record<string, string>) => void;
  keepWhere: (wanted: string) => void;
}

/** Which events are asked for: all of it stands in the address, so that it can be sent to somebody. */
export function useAsked(): Asked {
  const [parameters, change] = useAddress();
  const text = parameters.get("text") ?? "";
  const where = parameters.get("where") ?? "";
  const floor = parameters.get("floor") ?? "";
  const saved = parameters.get("filter") ?? "";
  const keep = useCallback(
    (changes: Record<string, string>) =>
      change(Object.fromEntries(Object.entries(changes).map(([name, value]) => [name, value.trim() && value])), true),
    [change],
  );
  const keepWhere = useCallback((wanted: string) => keep({ where: wanted }), [keep]);
  const filter = useMemo(() => filterOfEvents(where, floor), [where, floor]);
  return { text, where, floor, saved, filter, keep, keepWhere };
}
