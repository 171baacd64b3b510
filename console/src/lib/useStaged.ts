import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { FIRST_ROWS } from "./span";

const WHOLE = 10_000;
/** Milliseconds after the first rows in which whatever else the page asks for first comes first. */
const REST = 1000;

interface Listed {
  next?: string | null | undefined;
}

/** A list of which the first rows are shown at once, and all of them a moment later. `whole` says that all
 * are; it is asked again each `every` milliseconds. */
export function useStaged<T extends Listed>(
  key: readonly unknown[],
  ask: (limit: number) => Promise<T>,
  every: number,
) {
  const settings = { placeholderData: keepPreviousData, retry: false } as const;
  const first = useQuery({
    ...settings,
    queryKey: [...key, "first"],
    queryFn: () => ask(FIRST_ROWS),
    refetchInterval: (query) => (query.state.data?.next ? false : every),
  });
  const more = Boolean(first.data?.next);
  const [rested, setRested] = useState(false);
  useEffect(() => {
    if (!more) return;
    const timer = setTimeout(() => setRested(true), REST);
    return () => clearTimeout(timer);
  }, [more]);
  const all = useQuery({
    ...settings,
    queryKey: [...key],
    queryFn: () => ask(WHOLE),
    enabled: more && rested,
    refetchInterval: every,
  });
  const [begun, ended] = [first.data && !first.isPlaceholderData, all.data && !all.isPlaceholderData];
  const data = more && (ended || !begun) ? (all.data ?? first.data) : first.data;
  const error = first.error ?? (more ? all.error : null);
  return { data, error, isError: error !== null, whole: data !== undefined && (!more || data === all.data) };
}
