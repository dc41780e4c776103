import { expect, test } from "vitest";
import { sizeOf, sizeWords } from "./size";

const GIB = 1024 ** 3;

test.each([
  ["500 GiB", 500 * GIB],
  ["2T", 2 * 1024 ** 4],
  ["1.5 TiB", 1.5 * 1024 ** 4],
  ["1,500 GiB", 1500 * GIB],
  ["1 500 GiB", 1500 * GIB],
  ["1’500 GiB", 1500 * GIB],
  ["1,500.5 GiB", Math.round(1500.5 * GIB)],
  ["1.500,5 GiB", Math.round(1500.5 * GIB)],
  ["0,5 GiB", GIB / 2],
  ["512", 512],
  ["10 MB", 10 * 1024 ** 2],
  ["1.000.000", 1_000_000],
])("%s is so many bytes", (text, bytes) => expect(sizeOf(text)).toBe(bytes));

test.each(["1.500 GiB", "many", "-5 GiB", "5 PiB", "1,50,0", "0"])("%s is none, or could be two", (text) =>
  expect(sizeOf(text)).toBeUndefined(),
);

test("nothing is no size, and what is said is read as the same again", () => {
  expect(sizeOf("  ")).toBeNull();
  for (const bytes of [1, 1023, 1024, 1536, 500 * GIB, 3 * 1024 ** 4]) expect(sizeOf(sizeWords(bytes))).toBe(bytes);
});
