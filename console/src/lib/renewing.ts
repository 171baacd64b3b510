/** Milliseconds between two rounds of asking anew. */
export const EVERY = 1000;

interface Client {
  /** How many answers of this kind are on their way. */
  isFetching: (kind: string) => number;
  invalidate: (kind: string) => void;
}

/** Has kinds of answers asked for anew because something changed: at once, then once a second at most, and none of which
 * an answer is on its way: that may be old by now, and is asked for again when it is there. In a storm a list that takes
 * long would else be begun again and again. */
export function renewing(client: Client): { renew: (...kinds: string[]) => void; stop: () => void } {
  const due = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let last = Number.NEGATIVE_INFINITY;
  const round = () => {
    timer = undefined;
    last = Date.now();
    for (const kind of due) {
      if (client.isFetching(kind)) continue;
      due.delete(kind);
      client.invalidate(kind);
    }
    if (due.size) plan();
  };
  const plan = () => {
    timer ??= setTimeout(round, Math.max(0, last + EVERY - Date.now()));
  };
  return {
    renew: (...kinds) => {
      for (const kind of kinds) due.add(kind);
      plan();
    },
    stop: () => clearTimeout(timer),
  };
}
