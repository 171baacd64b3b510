import { useCallback, useState } from "react";
import { Refused } from "../api/client";
import { problemOf } from "../lib/problems";

/** What is typed into a form, what the service said of it, and whether it is on its way. */
export interface Form<T extends object> {
  values: T;
  set: (change: Partial<T>) => void;
  /** Sends, and keeps what went wrong; typing goes on meanwhile. */
  send: (work: () => Promise<unknown>) => Promise<boolean>;
  reset: (to?: Partial<T>) => void;
  busy: boolean;
  error: unknown;
  /** What the service said of a field, under whatever longer name it said it. */
  problem: (place: string) => string | undefined;
}

export function useForm<T extends object>(start: T): Form<T> {
  const [values, setValues] = useState(start);
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const set = useCallback((change: Partial<T>) => setValues((held) => ({ ...held, ...change })), []);
  const reset = useCallback((to?: Partial<T>) => setValues({ ...start, ...to }), [start]);
  const send = useCallback(async (work: () => Promise<unknown>) => {
    setBusy(true);
    setError(undefined);
    try {
      await work();
      return true;
    } catch (problem) {
      setError(problem);
      return false;
    } finally {
      setBusy(false);
    }
  }, []);
  const fields = error instanceof Refused ? error.fields : [];
  return { values, set, send, reset, busy, error, problem: (place) => problemOf(fields, place) };
}
