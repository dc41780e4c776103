import { expect, test } from "vitest";
import { BITS, FULL, letters, maskLevel, maskWords, PASS, perms, permsLevel, READ, whereWords, WRITE } from "./words";

test("every usual mask has its word and its level, and a bit more is said", () => {
  expect([FULL, WRITE, READ, PASS].map(maskWords)).toEqual(["everything", "read-write", "read-only", "pass through"]);
  expect([FULL, WRITE, READ, PASS, 0].map(maskLevel)).toEqual(["RW", "RW", "RO", "PT", "NA"]);
  expect(maskWords(READ | 0x40)).toBe("read-only + delete what is inside");
});

test("every mask can be said, and no letter stands for two bits", () => {
  expect(new Set(BITS.map(([, letter]) => letter)).size).toBe(BITS.length);
  expect(letters(FULL)).toHaveLength(BITS.length);
  for (const [bit, letter] of BITS) expect(letters(bit)).toBe(letter);
});

test("rwx and what they are worth", () => {
  expect([7, 5, 1, 0].map(perms)).toEqual(["rwx", "r-x", "--x", "---"]);
  expect([7, 6, 5, 4, 1, 0].map(permsLevel)).toEqual(["RW", "RW", "RO", "RO", "PT", "NA"]);
});

test("where an entry counts, for every combination of its flags", () => {
  const said = Array.from({ length: 16 }, (_, flags) => whereWords(flags));
  expect(said.every((words) => words.length > 0)).toBe(true);
  expect(new Set([0, 1, 2, 3, 7, 9, 10, 11, 15].map((flags) => said[flags])).size).toBe(9);
});
