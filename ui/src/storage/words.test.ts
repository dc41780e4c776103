import { expect, test } from "vitest";
import examples from "../api/examples.json";
import { BITS, KNOWN, letters, maskLevel, maskWords, perms, permsLevel, whereWords } from "./words";

test("masks, flags and permissions are said as the core says them", () => {
  expect(examples.rights.map(([mask]) => [mask, maskWords(mask as number), letters(mask as number)])).toEqual(examples.rights);
  expect(examples.where.map(([flags]) => [flags, whereWords(flags as number)])).toEqual(examples.where);
  expect(examples.rwx.map(([bits]) => [bits, perms(bits as number)])).toEqual(examples.rwx);
});

test("the colours of entries", () => {
  expect(KNOWN.map((one) => maskLevel(one.mask))).toEqual(["RW", "RW", "RO", "PT", "RW"]);
  expect(maskLevel(0)).toBe("NA");
  expect([7, 6, 5, 4, 1, 0].map(permsLevel)).toEqual(["RW", "RW", "RO", "RO", "PT", "NA"]);
});

test("no letter stands for two rights", () => {
  expect(new Set(BITS.map(([, letter]) => letter)).size).toBe(BITS.length);
});
