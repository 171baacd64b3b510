import { describe, expect, it } from "vitest";
import { canBeAsked, isWord, mended, onlyWith, withCondition } from "../src/lib/filterText";

describe("a filter as text", () => {
  it("asks for more, and keeps together what joins with or", () => {
    expect(withCondition("", 'host eq "a"')).toBe('host eq "a"');
    expect(withCondition('host eq "a"', "cores gt 2")).toBe('host eq "a" and cores gt 2');
    expect(withCondition('host eq "a" or host eq "b"', "cores gt 2")).toBe(
      '(host eq "a" or host eq "b") and cores gt 2',
    );
    expect(withCondition('body co "this or that"', "cores gt 2")).toBe('body co "this or that" and cores gt 2');
    expect(withCondition('host eq "a" and cores gt 2', "cores gt 2")).toBe('host eq "a" and cores gt 2');
  });

  it("takes values as they are", () => {
    expect(onlyWith("", "body", 'a "quoted" \\ word')).toBe('body eq "a \\"quoted\\" \\\\ word"');
    expect(onlyWith("", "port", 80, false)).toBe("port ne 80");
    expect(canBeAsked("http.response.status_code")).toBe(true);
    expect(canBeAsked("with space")).toBe(false);
  });

  it("is mended at the place of a slip", () => {
    expect(mended('severity gee "error"', 10, "ge")).toBe('severity ge "error"');
    expect(mended('host eq "a" host eq "b"', 13, "and")).toBe('host eq "a" and eq "b"');
    expect(mended("host eq", 8, '"text"')).toBe('host eq ""');
    expect(mended("host eq pier", 9, '"text"')).toBe('host eq ""');
    expect(mended('(host eq "a"', 13, ")")).toBe('(host eq "a" )');
    expect(isWord("ge") && isWord('"error"') && !isWord("an attribute name")).toBe(true);
  });
});
