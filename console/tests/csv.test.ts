import { expect, it } from "vitest";
import { csv } from "../src/lib/csv";

it("writes rows as RFC 4180 does, and no formulas", () => {
  expect(
    csv([
      ["account", "failed"],
      ['a "b", c', 3],
      ["=1+1", -2],
    ]),
  ).toBe('account,failed\r\n"a ""b"", c",3\r\n\'=1+1,-2\r\n');
});
