import { expect, test } from "vitest";
import { inTurn } from "../src/lib/inTurn";

test("what is said last is kept last, one at a time, and what was replaced meanwhile is not kept at all", async () => {
  const began: string[] = [];
  const ends: (() => void)[] = [];
  const say = inTurn((state: string) => {
    began.push(state);
    return new Promise<void>((end) => ends.push(end));
  });
  const first = say("a");
  await Promise.resolve();
  await Promise.resolve();
  await Promise.resolve();
  expect(began).toEqual(["a"]);
  const second = say("b");
  const third = say("c");
  expect(began).toEqual(["a"]);
  ends[0]?.();
  await first;
  await expect.poll(() => began).toEqual(["a", "c"]);
  ends[1]?.();
  await Promise.all([second, third]);
  expect(began).toEqual(["a", "c"]);
});

test("one that fails says so, and the next is kept all the same", async () => {
  const kept: string[] = [];
  const say = inTurn(async (state: string) => {
    if (state === "bad") throw new Error("full");
    kept.push(state);
  });
  await expect(say("bad")).rejects.toThrow("full");
  await say("good");
  expect(kept).toEqual(["good"]);
});
