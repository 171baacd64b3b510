import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { EVERY, renewing } from "../src/lib/renewing";

beforeEach(() => {
  vi.useFakeTimers();
});
afterEach(() => {
  vi.useRealTimers();
});

function asked() {
  const seen: string[] = [];
  const under = new Set<string>();
  const renewal = renewing({ isFetching: (kind) => Number(under.has(kind)), invalidate: (kind) => seen.push(kind) });
  return { ...renewal, seen, under };
}

test("what changed is asked for at once, and in a storm once a second", () => {
  const { renew, seen } = asked();
  renew("alerts", "hosts");
  vi.advanceTimersByTime(0);
  expect(seen).toEqual(["alerts", "hosts"]);
  for (let n = 0; n < 100; n += 1) {
    renew("alerts");
    vi.advanceTimersByTime(EVERY / 50);
  }
  expect(seen.slice(2)).toEqual(["alerts", "alerts"]);
  renew("alerts");
  vi.advanceTimersByTime(5 * EVERY);
  expect(seen.slice(2)).toEqual(["alerts", "alerts", "alerts"]);
});

test("an answer on its way is not begun again, and is asked for anew when it is there", () => {
  const { renew, seen, under } = asked();
  under.add("hosts");
  renew("hosts", "alerts");
  vi.advanceTimersByTime(5 * EVERY);
  expect(seen).toEqual(["alerts"]);
  under.delete("hosts");
  vi.advanceTimersByTime(EVERY);
  expect(seen).toEqual(["alerts", "hosts"]);
  vi.advanceTimersByTime(5 * EVERY);
  expect(seen).toEqual(["alerts", "hosts"]);
});

test("nothing is asked for once it has stopped", () => {
  const { renew, stop, seen } = asked();
  renew("hosts");
  stop();
  vi.advanceTimersByTime(5 * EVERY);
  expect(seen).toEqual([]);
});
