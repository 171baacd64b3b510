import { expect, test } from "vitest";
import { flowed, inOrder, moved, resized } from "../src/lib/sheet";

const sheet = (...widths: number[]) => widths.map((width, i) => ({ name: i, at: [0, 0, width, 4] }));
const places = (panels: { name: number; at: number[] }[]) => panels.map((p) => [p.name, p.at[0], p.at[1], p.at[2]]);

test("panels flow over twelve columns", () => {
  expect(places(flowed(sheet(6, 6, 4, 12, 8)))).toEqual([
    [0, 0, 0, 6],
    [1, 6, 0, 6],
    [2, 0, 4, 4],
    [3, 0, 8, 12],
    [4, 0, 12, 8],
  ]);
});

test("a row is as tall as its tallest panel", () => {
  const [, second] = flowed([{ at: [0, 0, 12, 9] }, { at: [0, 0, 6, 2] }]);
  expect(second?.at).toEqual([0, 9, 6, 2]);
});

test("one is put before another, and at the end", () => {
  const panels = flowed(sheet(6, 6, 6));
  expect(moved(panels, 2, 0).map((p) => p.name)).toEqual([2, 0, 1]);
  expect(moved(panels, 0, 2).map((p) => p.name)).toEqual([1, 2, 0]);
  expect(moved(panels, 0, 9).map((p) => p.name)).toEqual([1, 2, 0]);
  expect(moved(panels, 1, 1)).toBe(panels);
});

test("widths snap to thirds and the half, and end there", () => {
  expect(resized(sheet(6), 0, 1)[0]?.at[2]).toBe(8);
  expect(resized(sheet(4), 0, -1)[0]?.at[2]).toBe(4);
  expect(resized(sheet(5), 0, 1)[0]?.at[2]).toBe(6);
  expect(resized(sheet(12), 0, 1)[0]?.at[2]).toBe(12);
});

test("they are read by row, then by column", () => {
  expect(
    inOrder([{ at: [6, 0, 6, 4] }, { at: [0, 4, 6, 4] }, { at: [0, 0, 6, 4] }]).map((p) => p.at.slice(0, 2)),
  ).toEqual([
    [0, 0],
    [6, 0],
    [0, 4],
  ]);
});
