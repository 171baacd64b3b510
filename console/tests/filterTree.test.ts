import { describe, expect, it } from "vitest";
import { emptyCondition, fromTree, group, toText, typed } from "../src/lib/filterTree";

const condition = (attribute: string, comparison: string, value: unknown) => ({ attribute, comparison, value });

describe("a filter as groups", () => {
  it("is what the service says it is, and text again", () => {
    const tree = {
      all: [
        condition("host", "sw", "pier-"),
        { any: [condition("severity", "ge", "error"), { not: [condition("source", "eq", 'a "b"')] }] },
        { not: [{ any: [condition("cores", "gt", 2), condition("quay", "pr", null)] }] },
      ],
    };
    expect(toText(fromTree(tree))).toBe(
      'host sw "pier-" and (severity ge "error" or not (source eq "a \\"b\\"")) and not (cores gt 2 or quay pr)',
    );
    expect(toText(fromTree(condition("host", "eq", "a")))).toBe('host eq "a"');
    expect(toText(fromTree({ not: [{ not: [condition("host", "eq", "a")] }] }))).toBe('host eq "a"');
    expect(toText(fromTree(null))).toBe("");
  });

  it("leaves out what is half filled in", () => {
    const half = { ...emptyCondition(), attribute: "host" };
    const done = { ...half, value: "gate-1" };
    expect(toText(group([half]))).toBe("");
    expect(toText(group([half, done, group([half])]))).toBe('host eq "gate-1"');
    expect(toText(group([done, group([done, half], "any")]))).toBe('host eq "gate-1" and host eq "gate-1"');
  });

  it("takes numbers as numbers where sizes are compared", () => {
    const sized = { ...emptyCondition(), attribute: "cores", comparison: "gt" };
    expect(toText(typed(sized, "4"))).toBe("cores gt 4");
    expect(toText(typed({ ...sized, comparison: "eq" }, "4"))).toBe('cores eq "4"');
    expect(toText(typed(sized, "four"))).toBe('cores gt "four"');
  });
});
