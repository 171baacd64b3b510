import { expect, test } from "vitest";
import { askOf, type Departure, MOST_STAIRS, shownBy, spanOf, stairs, sureness, type Trail } from "../src/lib/trail";

const T0 = Date.parse("2026-11-23T03:00:00Z");

function departure(host: string, minute: number, more: Partial<Departure> = {}): Departure {
  const at = new Date(T0 + minute * 60_000).toISOString();
  const known = { metric: "app.request.duration", pattern: null, attributes: {}, kind: "latency", deviation: 20 };
  return { host, at, text: "slow", uncertainty_seconds: 10, follows: true, link: null, ...known, ...more } as Departure;
}

function trail(departed: Departure[], sure = 0.9): Trail {
  const asked = { from: new Date(T0).toISOString(), to: new Date(T0 + 40 * 60_000).toISOString() };
  return { ...asked, departed, sure, suspects: [{ rank: 1, sure }] } as unknown as Trail;
}

test("one lane for each place, the clearest, in the order in which they departed", () => {
  const far = departure("web", 9, { deviation: 50 });
  const shown = stairs(trail([departure("app", 8), departure("web", 7), far, departure("db", 5)]));
  expect(shown.map((one) => [one.host, one.deviation])).toEqual([
    ["db", 20],
    ["app", 20],
    ["web", 50],
  ]);
});

test("what does not follow from a cause that is named is not among the lanes, and is when none is", () => {
  const departed = [departure("db", 5, { of: 1, metric: null }), departure("other", 6, { follows: false })];
  expect(stairs(trail(departed)).map((one) => one.host)).toEqual(["db"]);
  expect(stairs(trail(departed, 0.3)).map((one) => one.host)).toEqual(["db", "other"]);
});

test("the suspect stands among the lanes however many others went farther", () => {
  const many = Array.from({ length: 30 }, (_, i) => departure(`web-${i}`, 10 + i, { deviation: 60 }));
  const shown = stairs(trail([departure("db", 5, { of: 1, metric: null, deviation: 4 }), ...many]));
  expect(shown).toHaveLength(MOST_STAIRS);
  expect(shown[0]?.host).toBe("db");
});

test("what is drawn begins before the first that departed", () => {
  const asked = spanOf(trail([departure("db", 10)]));
  expect(asked.start).toBe(T0 / 1000);
  const early = spanOf(trail([departure("db", -20)]));
  expect(early.start).toBeLessThan(T0 / 1000 - 20 * 60);
  expect(early.end).toBe(asked.end);
});

test("a lane asks for its own series and says what it measures", () => {
  const volume = departure("db", 5, {
    metric: "system.filesystem.utilization",
    attributes: { "system.filesystem.mountpoint": '/a"b' },
    take: "rate",
  });
  expect(askOf(volume)).toEqual({
    metric: "system.filesystem.utilization",
    where: 'host eq "db" and system.filesystem.mountpoint eq "/a\\"b"',
    take: "rate",
    by: [],
  });
  expect(shownBy(volume)).toBe('filesystem.utilization /a"b');
  expect(askOf(departure("db", 5, { metric: null }))).toBeUndefined();
});

test.each([
  [0.95, "almost certain, 95 %"],
  [0.6, "likely, 60 %"],
  [0.25, "possible, 25 %"],
  [0.04, "unlikely, 4 %"],
])("%f is said as %s", (sure, said) => {
  expect(sureness(sure)).toBe(said);
});
