import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api, got } from "../src/api/client";
import { askHosts, askTable } from "../src/lib/asks";
import { beginEarly, endEarly } from "../src/lib/early";
import { askFirst } from "../src/lib/first";

const PAGES = [
  "/",
  "/fleet?where=os%20eq%20%22linux%22&sort=cpu&down=1",
  "/fleet/pier%201",
  "/incidents",
  "/alerts",
  "/rules",
  "/events?text=refused&where=host%20eq%20%22pier%22&floor=warning&from=-30m",
  "/availability?of=service",
];
const asked: string[] = [];
let lost = false;
let status = 200;

beforeEach(() => {
  vi.useFakeTimers();
  asked.length = 0;
  lost = false;
  status = 200;
  vi.stubGlobal("fetch", async (request: Request) => {
    asked.push(`${request.method} ${request.url} ${await request.text()}`);
    if (lost) throw new TypeError("no network");
    return new Response(JSON.stringify({ items: [asked.length] }), {
      status,
      headers: { "content-type": "application/json" },
    });
  });
});

afterEach(() => {
  vi.runAllTimers();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

async function begun(address: string): Promise<void> {
  const at = new URL(address, window.location.origin);
  beginEarly();
  await Promise.allSettled(askFirst(at.pathname, at.searchParams));
  endEarly();
}

test.each(PAGES)("what %s asks first is asked once", async (address) => {
  await begun(address);
  const early = [...asked];
  expect(early.length).toBeGreaterThan(0);
  const at = new URL(address, window.location.origin);
  await Promise.all(askFirst(at.pathname, at.searchParams));
  expect(asked).toEqual(early);
  await Promise.all(askFirst(at.pathname, at.searchParams));
  expect(asked).toEqual([...early, ...early]);
});

test("an answer that was begun is read, another question is not answered by it", async () => {
  await begun("/fleet");
  expect(await askHosts("", 60)).toEqual({ items: [1] });
  expect(await askHosts("", 10_000)).toEqual({ items: [3] });
  expect(await askTable({ columns: [], lines: false, sort: [], limit: 60 })).toEqual({ items: [4] });
  expect(await got(api.GET("/api/v1/views"))).toEqual({ items: [5] });
});

test("what did not get through is asked again, and what is old is not used", async () => {
  lost = true;
  await begun("/fleet/pier");
  lost = false;
  expect(await got(api.GET("/api/v1/hosts/{name}", { params: { path: { name: "pier" } } }))).toEqual({ items: [2] });
  await begun("/rules");
  vi.advanceTimersByTime(11_000);
  expect((await Promise.all(askFirst("/rules", new URLSearchParams()))).length).toBe(1);
  expect(asked.length).toBe(4);
});

test("what was refused before somebody signed in is asked again, and what another was told is not shown", async () => {
  status = 401;
  await begun("/fleet/pier");
  status = 200;
  const ask = () => got(api.GET("/api/v1/hosts/{name}", { params: { path: { name: "pier" } } }));
  expect(await ask()).toEqual({ items: [2] });
  await begun("/fleet/pier");
  await api.DELETE("/api/v1/session");
  expect(await ask()).toEqual({ items: [5] });
});

test("pages that are not known, and dashboards of a screen, begin nothing", async () => {
  for (const address of ["/settings", "/screen/a", "/fleet/pier/processes", "/availability?name=pier"])
    await begun(address);
  expect(asked).toEqual([]);
});
