import { describe, expect, it } from "vitest";
import { around, paragraphs } from "../src/alerts/Alert";
import type { Alert, Group, Host, Incident, Schemas } from "../src/api/client";
import { inOrderOfWork, isGood } from "../src/enrol/results";
import { compared } from "../src/fleet/facts";
import { boundsOf, depthLanes, knownSpan, readable, serviceLanes } from "../src/host/lanes";
import { clock, duration, scaled, stretch, withUnit } from "../src/lib/format";
import { reopenAfter } from "../src/lib/live";
import { problemOf } from "../src/lib/problems";
import { BLANK, bodyOf, formOf } from "../src/lib/ruleForm";
import { areaPath, bridged, linePath, lonePoints, roundUp, timeTicks, valueAt } from "../src/lib/scale";
import { fixedSpan, readSpan, relativeSeconds, stepSpan } from "../src/lib/span";
import { weight } from "../src/lib/states";
import { beneath, boardRows, headline, someOf } from "../src/now/board";
import { nested } from "../src/settings/Groups";
import { pieces } from "../src/ui/Ribbon";

type TestedEntry = Schemas["TestedEntry"];

const NOW = Date.UTC(2026, 10, 23, 12, 0, 0) / 1000;
const of = (text: string) => readSpan(new URLSearchParams(text), NOW);

describe("the span", () => {
  it("is three hours that move on, unless the address says otherwise", () => {
    expect(of("")).toMatchObject({ start: NOW - 10800, end: NOW, live: true });
    expect(of("from=-30m")).toMatchObject({ start: NOW - 1800, live: true });
    expect(of("from=1000&to=2000")).toEqual({ from: "1000", to: "2000", start: 1000, end: 2000, live: false });
  });
  it.each(["from=5000&to=100", "from=x&to=y", "from=-3parsecs", "from=Infinity&to=1"])(
    "falls back when %s makes no sense",
    (text) => {
      expect(of(text)).toMatchObject({ live: true, start: NOW - 10800 });
    },
  );
  it("steps by half of itself and becomes live when it reaches now", () => {
    const back = stepSpan(of("from=-1h"), -1, NOW);
    expect(back).toEqual({ from: String(NOW - 5400), to: String(NOW - 1800) });
    expect(stepSpan(of(`from=${back.from}&to=${back.to}`), 1, NOW)).toEqual({ from: "-60m", to: "now" });
  });
  it("is never shorter than a minute and never the wrong way round", () => {
    expect(fixedSpan(2000, 1000)).toEqual({ from: "1000", to: "2000" });
    expect(fixedSpan(1000, 1001)).toEqual({ from: "1000", to: "1060" });
    expect(relativeSeconds("-2d")).toBe(172800);
  });
});

describe("numbers", () => {
  it.each([
    [0.953, "1", "95.3 %"],
    [1, "1", "100 %"],
    [2 ** 31, "By", "2 GiB"],
    [1536, "By/s", "1.50 KiB/s"],
    [0.25, "s", "250 ms"],
    [9.4, "s", "9.40 s"],
    [7200, "s", "2 h"],
    [1_209_600, "s", "14 d"],
    [600, "s", "10 min"],
    [90, "s", "90 s"],
    [0, "{process}/s", "0 processes/s"],
    [3, "{key}", "3 keys"],
    [14, "{session}", "14 sessions"],
    [1, "{session}", "1 session"],
    [20.5, "{session}", "21 sessions"],
    [0.2, "{session}", "under 1 session"],
    [0, "{entry}", "0 entries"],
    [1.5, "{core}", "1.50 cores"],
    [54.3, "{transaction}/s", "54.3 transactions/s"],
    [12345, "{ticket}", "12.3 k tickets"],
    [2, "{state}", "2"],
    [null, "By", "–"],
    [Number.NaN, "s", "–"],
  ])("%s of %s reads %s", (value, unit, text) => {
    expect(withUnit(value, unit)).toBe(text);
  });
  it("keep value and unit apart where they stand apart", () => {
    expect(scaled(0.07, "1")).toEqual({ value: "7.00", unit: "%" });
  });
  it("lengths of time have their two largest units", () => {
    expect([5, 65, 4030, 90061].map(duration)).toEqual(["5 s", "1 min 5 s", "1 h 7 min", "1 d 1 h"]);
  });
  it("a stretch has its date", () => {
    const start = new Date(2026, 10, 23, 2, 30).getTime() / 1000;
    expect(stretch(start, start + 10800)).toBe("02:30 – 05:30, Mon 23 Nov");
    expect(stretch(start, start + 90000)).toBe("Mon 23 Nov 02:30 – Tue 24 Nov 03:30");
    expect(clock(start, true)).toBe("02:30:00");
  });
});

describe("places on the page", () => {
  it("ticks are round and not too many", () => {
    const ticks = timeTicks(NOW - 10800, NOW, 8);
    expect(ticks.length).toBeLessThanOrEqual(8);
    expect(ticks.every((t) => t % 1800 === 0)).toBe(true);
  });
  it("the upper end is round", () => {
    expect([0, 0.7, 11, 14.2, 99, 101].map(roundUp)).toEqual([1, 0.75, 15, 15, 100, 150]);
  });
  const line = { times: [0, 10, 20, 30, 40], values: [1, null, 3, 4, null] };
  const same = (v: number) => v;
  it("a gap breaks the line and closes the area", () => {
    expect(linePath(line, same, same)).toBe("M0.0,1.0M20.0,3.0L30.0,4.0");
    expect(areaPath(line, same, same, 9)).toBe("M0.0,9.0L0.0,1.0L0.0,9.0ZM20.0,9.0L20.0,3.0L30.0,4.0L30.0,9.0Z");
  });
  it("steps narrower than the readings leave no gaps, a real silence does", () => {
    const times = Array.from({ length: 40 }, (_, i) => i * 5);
    const values = times.map((t) => (t % 15 === 0 && (t < 60 || t > 150) ? 1 : null));
    const drawn = bridged({ times, values });
    expect(drawn.values.filter((v) => v === null)).toHaveLength(1);
    expect(drawn.values.filter((v) => v === 1)).toHaveLength(values.filter((v) => v === 1).length);
  });
  it("the value at the cursor is of its step or shortly before", () => {
    expect(valueAt(line, 10, 25)).toBe(3);
    expect(valueAt(line, 10, 15)).toBe(1);
    expect(valueAt(line, 10, 500)).toBeNull();
  });
});

const alert = (over: Partial<Alert>): Alert =>
  ({
    id: 1,
    rule: "r",
    about: "a",
    severity: "warning",
    state: "open",
    silent: false,
    host: "h",
    attributes: {},
    metric: "m",
    unit: "1",
    value: 1,
    worst_value: 1,
    limit: 1,
    clue: null,
    opened_at: "2026-11-23T03:00:00Z",
    changed_at: "2026-11-23T03:00:00Z",
    recovered_at: null,
    recovery: null,
    acknowledged_by: null,
    acknowledged_at: null,
    acknowledged_note: null,
    ...over,
  }) as Alert;
const host = (name: string, groups: string[], state = "ok"): Host =>
  ({ name, groups, state, labels: { site: "northquay" }, open_alerts: 0 }) as unknown as Host;

describe("the board", () => {
  const hosts = [host("web-n1", ["northquay", "Booking"]), host("web-n2", ["northquay", "Booking"])];
  const incident = (over: Partial<Incident>): Incident =>
    ({
      id: 1,
      severity: "warning",
      state: "open",
      title: "t",
      practice: false,
      recovered_at: null,
      snoozed_until: null,
      snoozed_until_worse: false,
      opened_at: "2026-11-23T03:04:00Z",
      hosts: ["web-n1"],
      sites: ["northquay"],
      hurts: [],
      alerts: [],
      alert_count: 1,
      taken_by: null,
      ...over,
    }) as unknown as Incident;
  const first = alert({ id: 2, host: "web-n2", severity: "critical", value: 0.97, limit: 0.95, clue: "x" });
  const rows = boardRows(
    [
      incident({ id: 3, opened_at: "2026-11-23T01:00:00Z", taken_by: "anna" }),
      incident({
        id: 4,
        severity: "critical",
        hosts: ["web-n1", "web-n2"],
        hurts: [{ application: "Booking", how: "critical", state: "critical" }],
        alerts: [{ ...first, value: 0.5 } as unknown as Incident["alerts"][number]],
        alert_count: 12,
      }),
      incident({ id: 5, practice: true }),
      incident({ id: 6, recovered_at: "2026-11-23T03:05:00Z" }),
      incident({ id: 7, snoozed_until_worse: true }),
    ],
    [first],
    hosts,
  );
  it("has one row for each open incident, the worst first, and says whom it concerns", () => {
    expect(rows.map((r) => [r.incident.id, r.severity, r.hosts, r.feels, r.clue, r.owner])).toEqual([
      [4, "critical", ["web-n2", "web-n1"], ["Booking"], "x", null],
      [3, "warning", ["web-n1"], ["Booking"], null, "anna"],
    ]);
  });
  it("tells the value of this moment beside the limit, and how many alerts are one incident", () => {
    expect(rows.map(beneath)).toEqual(["97 %, limit 95 % · 12 alerts", ""]);
  });
  it("says how many things are wrong and whether somebody is needed", () => {
    expect(headline(rows, 0)).toBe("Two things are wrong, one of them needs somebody now");
    expect(headline([], 0)).toBe("All is well");
    expect(headline([], 2)).toBe("Two hosts are silent");
    expect(headline(rows.slice(1), 0)).toBe("One thing is wrong, none needs you this minute");
  });
  it("names a few of many", () => {
    expect(someOf(["a", "b", "c"])).toBe("a, b, c");
    expect(someOf(["a", "b", "c", "d"])).toBe("a, b and 2 more");
  });
});

describe("lanes", () => {
  const rule = {
    name: "r",
    enabled: true,
    hosts: null,
    measure: { metric: "db.waits" },
    limits: { warning: { above: 3 }, critical: { above: 8 } },
  };
  const metric = (name: string, kind: string, attributes: string[] = []) => ({
    name,
    kind,
    attributes,
    unit: "1",
    series: 1,
    description: "",
  });
  it("show metrics with a rule first, and take what suits their kind", () => {
    const lanes = serviceLanes(
      host("db", []),
      [
        metric("db.time", "histogram"),
        metric("db.done", "counter"),
        metric("db.waits", "gauge", ["db.state"]),
        metric("system.x", "gauge"),
        metric("container.x", "gauge"),
      ] as never,
      [rule] as never,
    );
    expect(lanes.map((l) => [l.name, l.ask.take, l.ask.by])).toEqual([
      ["Waits", "avg", ["db.state"]],
      ["Done", "rate", []],
      ["Time", "p95", []],
    ]);
    expect(lanes[0]?.bounds).toHaveLength(2);
  });
  it("go deeper with what a host tells", () => {
    const told = [
      metric("balise.program.cpu", "gauge"),
      metric("balise.pressure.share", "gauge"),
      metric("a", "gauge"),
    ];
    const charts = [
      { title: "Programs", metric: "balise.program.cpu", by: ["process.executable.name"] },
      { title: "Waiting for", metric: "balise.pressure.share", where: 'balise.stalled eq "some"' },
      { title: "Not told", metric: "balise.directory.size" },
    ];
    expect(depthLanes(host("db", []), told as never, charts as never).map((l) => [l.name, l.ask.where])).toEqual([
      ["Programs", 'host eq "db"'],
      ["Waiting for", 'host eq "db" and balise.stalled eq "some"'],
    ]);
  });
  it("of a host that came a minute ago offer the span in which it is known", () => {
    const span = { start: NOW - 10800, end: NOW };
    expect(knownSpan(span, NOW - 60, NOW)).toBe("-5m");
    expect(knownSpan(span, NOW - 1200, NOW)).toBe("-20m");
    expect(knownSpan(span, NOW - 86400, NOW)).toBeUndefined();
    expect(knownSpan({ start: NOW - 9000, end: NOW - 5000 }, NOW - 60, NOW)).toBeUndefined();
  });
  it("have the limits that apply to them", () => {
    expect(boundsOf([rule] as never, "db.waits", host("db", []))).toEqual([
      { value: 3, severity: "warning" },
      { value: 8, severity: "critical" },
    ]);
    expect(boundsOf([rule] as never, "other", host("db", []))).toEqual([]);
  });
  it("have readable names", () => {
    expect(readable("postgresql.cache.hit_ratio")).toBe("Cache hit ratio");
    expect(weight("alert")).toBe("grave");
  });
});

describe("an alert", () => {
  it("is shown with some time before it, and after it when it has ended", () => {
    const span = around(NOW - 600, undefined, NOW);
    expect([NOW - 600 - span.start, span.end]).toEqual([1200, NOW]);
    expect(around(NOW - 7200, NOW - 3600, NOW).end).toBeGreaterThan(NOW - 3600);
  });
  it("has advice in paragraphs, not in the folds of a file", () => {
    expect(paragraphs("one\ntwo\n\nthree\n- a\n- b\n")).toBe("one two\n\nthree\n- a\n- b");
  });
});

describe("a rule's form", () => {
  it("holds a rule and gives it back", () => {
    const body = bodyOf({
      ...BLANK,
      name: "x",
      about: "y",
      metric: "m",
      each: "host, a.b",
      warning: "0.9",
      warningClear: "0.8",
    });
    expect(body.measure.each).toEqual(["host", "a.b"]);
    expect(body.limits).toEqual({ warning: { above: 0.9, hold: "5m", clear: 0.8 }, critical: null });
    const again = formOf({ ...body, name: "x" } as never);
    expect(bodyOf(again)).toEqual(body);
  });
  it("finds what the service said of a field", () => {
    const fields = [{ field: "rule.measure.where", detail: "no" }];
    expect(problemOf(fields, "where")).toBe("no");
    expect(problemOf(fields, "about")).toBeUndefined();
  });
});

describe("ribbons and streams", () => {
  it("a ribbon's pieces stay within the span", () => {
    const changes = [
      { at: 0, state: "ok" as const },
      { at: 50, state: "critical" as const },
      { at: 90, state: "ok" as const },
    ];
    expect(pieces(changes, 60, 80)).toEqual([{ state: "critical", start: 60, end: 80 }]);
  });
  it("a lost stream is opened again more and more slowly", () => {
    expect([1, 2, 5, 50].map(reopenAfter)).toEqual([2000, 4000, 30000, 30000]);
  });
});

describe("enrolling", () => {
  const entry = (position: number, result: TestedEntry["result"]) => ({ position, result }) as TestedEntry;

  it("puts what is to be corrected first, then what is still tested, then what is good", () => {
    const list = [
      entry(0, "added"),
      entry(1, null),
      entry(2, "refused"),
      entry(3, "already-enrolled"),
      entry(4, "failed"),
    ];
    expect(inOrderOfWork(list).map((e) => e.position)).toEqual([2, 4, 1, 0, 3]);
    expect(list.filter((e) => isGood(e.result)).map((e) => e.position)).toEqual([0, 3]);
  });

  it("shows groups below those they are within", () => {
    const group = (name: string, parent: string | null) => ({ name, parent }) as Group;
    const rows = nested([group("a", null), group("b", "a"), group("c", null), group("d", "b")]);
    expect(rows.map((r) => `${r.depth}${r.group.name}`)).toEqual(["0a", "1b", "2d", "0c"]);
  });
});

describe("comparing hosts", () => {
  const host = (name: string, os: string, cores: number, up: number) =>
    ({
      name,
      os,
      labels: {},
      state_since: "2026-11-23T00:00:00Z",
      collection: { mode: "resident", by: "its agent", delay_seconds: null, problem: null },
      facts: { cores, boot_time: up, addresses: [name] },
    }) as unknown as Host;
  const rows = (...hosts: Host[]) => new Map(compared(hosts, 1000).map((r) => [r.fact.key, r]));

  it("marks the one that is unlike the others", () => {
    const found = rows(host("a", "x", 2, 10), host("b", "x", 2, 20), host("c", "y", 2, 30));
    expect(found.get("os")?.odd).toEqual([false, false, true]);
    expect(found.get("cores")?.differs).toBe(false);
  });

  it("marks nobody where all differ, and never calls an address or an uptime different", () => {
    const found = rows(host("a", "x", 2, 10), host("b", "y", 4, 20));
    expect(found.get("os")).toMatchObject({ differs: true, odd: [false, false] });
    expect(found.get("addresses")?.differs).toBe(false);
    expect(found.get("up")?.differs).toBe(false);
  });
});

describe("a lone point", () => {
  it("is found, so that it can be drawn as a dot", () => {
    const line = { times: [0, 1, 2, 3, 4, 5], values: [7, null, 1, 2, null, 9] };
    expect(lonePoints(line)).toEqual([
      { time: 0, value: 7 },
      { time: 5, value: 9 },
    ]);
  });
});
