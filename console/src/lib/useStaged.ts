import { keepPreviousData, useQuery } from "@tanstack/react-query";

const FIRST = 200;
const WHOLE = 10_000;

interface Listed {
  next?: string | null | undefined;
}

/** A list of which the first rows are shown at once, and all of them as soon as they are there. `whole` says that all
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
    queryFn: () => ask(FIRST),
    refetchInterval: (query) => (query.state.data?.next ? false : every),
  });
  const more = Boolean(first.data?.next);
  const all = useQuery({
    ...settings,
    queryKey: [...key],
    queryFn: () => ask(WHOLE),
    enabled: more,
    refetchInterval: every,
  });
  const [begun, ended] = [first.data && !first.isPlaceholderData, all.data && !all.isPlaceholderData];
  const data = more && (ended || !begun) ? (all.data ?? first.data) : first.data;
  const error = first.error ?? (more ? all.error : null);
  return { data, error, isError: error !== null, whole: data !== undefined && (!more || data === all.data) };
}
