import { expect, test } from "vitest";
import type { Event, Incident } from "../src/api/client";
import { COLUMNS, columnOf, columnText, keysIn, keysText, orderOf, readColumn } from "../src/fleet/columns";
import { linesOf, writerOf } from "../src/host/busy";
import { share } from "../src/lib/format";
import { nodeOf, pageOf, stepsOf, whereOf } from "../src/lib/nodes";
import { changesThatMatter, hurtWords } from "../src/now/changed";

test("a column is read from its text and written as it was", () => {
  for (const text of [
    "avg(balise.cpu.busy)",
    'max(system.disk.io)@1h[disk.io.direction eq "read"]',
    "label:role",
    "fact:cores",
    'count:events@6h[severity ge "error"]',
    "count:alerts",
  ])
    expect(columnText(readColumn(text) ?? {})).toBe(text);
  expect(readColumn("balise.cpu.busy")).toEqual({ metric: "balise.cpu.busy", take: "avg" });
  for (const text of ["", "label:", "count:cows", "most(x)", "a b"]) expect(readColumn(text)).toBeUndefined();
});

test("keys of columns stand in the address whatever is in them", () => {
  const keys = ["cpu", 'max(x)[a eq "1, 2"]', "fact:cores"];
  expect(keysIn(keysText(keys))).toEqual(keys);
  expect(keysIn("")).toEqual([]);
});

test("the table is sorted by a column, and by a fact that the service knows", () => {
  const columns = COLUMNS.slice(0, 2);
  expect(orderOf({ key: "memory", down: true }, [...columns]).sort).toEqual([{ column: 1, descending: true }]);
  expect(orderOf({ key: "ram", down: false }, [...columns])).toEqual({
    extra: [{ fact: "memory" }],
    sort: [{ column: 2, descending: false }],
  });
  expect(orderOf({ key: "cows", down: true }, [...columns]).sort).toEqual([{ by: "state", descending: true }]);
  expect(columnOf("kernel")).toBeUndefined();
});

test("a node has its hosts as a filter and its page", () => {
  const node = nodeOf(["site", "north quay/1"], ["group", 'a "b"']);
  expect(stepsOf(node)).toEqual([
    { by: "site", name: "north quay/1" },
    { by: "group", name: 'a "b"' },
  ]);
  expect(whereOf(node)).toBe('site eq "north quay/1" and group eq "a \\"b\\""');
  expect(whereOf("label.role=(none)")).toBe("label.role eq null");
  expect(pageOf({ node: "site=n/host=a.b", kind: "host", name: "a.b" })).toBe("/fleet/a.b");
  expect(decodeURIComponent(pageOf({ node: "site=n", kind: "site", name: "n" }))).toBe("/below/site=n");
});

const at = (seconds: number) => new Date(seconds * 1000).toISOString();
const change = (id: string, time: number, host: string, body: string) =>
  ({ id, time: at(time), host, body, attributes: {} }) as unknown as Event;
const incident = (id: number, opened: number, hosts: string[], more = {}) =>
  ({
    id,
    opened_at: at(opened),
    hosts,
    hurts: [],
    practice: false,
    recovered_at: null,
    ...more,
  }) as unknown as Incident;

test("what was changed shortly before an incident comes first, and once for all its hosts", () => {
  const found = changesThatMatter(
    [
      change("3", 9000, "c", "kernel updated"),
      change("2", 7000, "b", "nginx updated"),
      change("1", 6900, "a", "nginx updated"),
      change("0", 100, "a", "disk added"),
    ],
    [incident(7, 7600, ["a", "b"])],
    3,
  );
  expect(found.map((one) => [one.event.id, one.hosts, one.before, one.incident?.id])).toEqual([
    ["2", ["b", "a"], true, 7],
    ["0", ["a"], false, 7],
    ["3", ["c"], false, undefined],
  ]);
});

test("whether anybody is hurt is said in words", () => {
  const hurt = (application: string, state: string) => ({ application, how: "", state });
  expect(hurtWords([])).toContain("Nobody");
  expect(
    hurtWords([
      incident(1, 1, [], { hurts: [hurt("Booking", "critical"), hurt("Office", "warning")] }),
      incident(2, 1, [], { hurts: [hurt("Gates", "critical"), hurt("Files", "ok")] }),
      incident(3, 1, [], { hurts: [hurt("Mail", "critical")], recovered_at: at(2) }),
    ]),
  ).toBe("Booking and Gates are in trouble for those who use them; Office is hurt a little.");
});

test("lines of a process, and the process of a line", () => {
  const one = { pid: 4711, program: "postgres: fares" } as Parameters<typeof linesOf>[1];
  expect(linesOf("db", one)).toBe(
    'host eq "db" and (source sw "postgres" or process.pid eq 4711 or syslog.procid eq "4711")',
  );
  const event = (attributes: object) => ({ attributes }) as Event;
  expect(writerOf(event({ "syslog.procid": "12" }))).toBe(12);
  expect(writerOf(event({ "process.pid": "-" }))).toBeUndefined();
});

test("a share is as fine as it has to be", () => {
  expect([1, 0, 0.99953, 0.9999999, 0.5, 0.00004].map(share)).toEqual([
    "100 %",
    "0 %",
    "99.953 %",
    "99.999 %",
    "50 %",
    "0.004 %",
  ]);
});
