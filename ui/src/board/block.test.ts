import { expect, test } from "vitest";
import { parseBlock } from "./block";

test("a block of a spreadsheet, in all that people write for a level", () => {
  expect(parseBlock("RW\tread only\tn\r\nWrite\t-\t\r\n")).toEqual({
    block: [
      ["RW", "RO", "NA"],
      ["RW", null, null],
    ],
  });
  expect(parseBlock("read/write\tread-write\tdenied\t—")).toEqual({ block: [["RW", "RW", "NA", null]] });
});

test("what is no level is told with its row and column, and cut where it is long", () => {
  expect(parseBlock(`RW\tRO\nNA\t${"x".repeat(99)}`)).toEqual({
    trouble: `Row 2, column 2 of what was copied says “${"x".repeat(30)}”. Only RW, RO, NA or an empty cell can be put here.`,
  });
});
