/** Keeps what is said last: `keep` is called for one state after the other, so that none overtakes a later one, and not
 * for those that another replaced while it waited. The promise is kept when this state, or one after it, is. */
export function inTurn<T>(keep: (state: T) => Promise<void>): (state: T) => Promise<void> {
  let newest: T | undefined;
  let waits = false;
  let before: Promise<void> = Promise.resolve();
  return (state) => {
    newest = state;
    if (!waits) {
      waits = true;
      before = before
        .catch(() => undefined)
        .then(() => {
          waits = false;
          return keep(newest as T);
        });
    }
    return before;
  };
}
