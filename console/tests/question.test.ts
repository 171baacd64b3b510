import { expect, test } from "vitest";
import { lanesOf, questionText, readQuestion, shiftOf, stacked } from "../src/lib/question";

test.each([
  [
    'avg of balise.cpu.busy by host,label.site where group eq "Booking" or host sw "a, by b"',
    {
      take: "avg",
      metric: "balise.cpu.busy",
      by: ["host", "label.site"],
      where: 'group eq "Booking" or host sw "a, by b"',
    },
  ],
  ["p95 of http.server.request.duration", { take: "p95", metric: "http.server.request.duration", by: [], where: "" }],
  ["max of a by host, disk", { take: "max", metric: "a", by: ["host", "disk"], where: "" }],
] as const)("a question reads as it is written: %s", (text, question) => {
  expect(readQuestion(text)).toEqual(question);
  expect(readQuestion(questionText({ ...question, by: [...question.by] }))).toEqual(question);
});

test.each(["", "avg", "best of x", "avg of", "avg balise.cpu.busy"])("what is no question is none: %s", (text) => {
  expect(readQuestion(text)).toBeUndefined();
});

test("the span before is as long as the span", () => {
  expect([shiftOf("span", 10800), shiftOf("-1d", 10800), shiftOf("", 1)]).toEqual(["-10800s", "-1d", undefined]);
});

test("few lines have a lane each, many share, and stacked ones are together", () => {
  expect(lanesOf(3, false)).toEqual([[0], [1], [2]]);
  expect(lanesOf(8, true)).toEqual([
    [0, 1, 2, 3, 4, 5],
    [6, 7],
  ]);
  expect(lanesOf(13, false).map((lane) => lane.length)).toEqual([6, 6, 1]);
  expect(lanesOf(0, false)).toEqual([]);
});

test("stacked lines stand on those below them, and what is missing holds up nothing", () => {
  expect(
    stacked([
      [1, null, 3],
      [10, 20, null],
      [100, 100, 100],
    ]),
  ).toEqual([
    [1, null, 3],
    [11, 20, null],
    [111, 120, 103],
  ]);
});
