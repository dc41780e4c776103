import type { Level } from "../api/client";

/** Access masks as they are said in a list (the bits of RFC 8881, 6.2.1.3.1), and what people call them. */
export const PASS = 0x1000a0, READ = 0x1200a9, WRITE = 0x1301ff, FULL = 0x1f01ff;
export const BITS: [bit: number, letter: string, words: string][] = [
  [0x1, "r", "read files, list folders"], [0x2, "w", "write files, add files"], [0x4, "a", "append to files, add folders"], [0x20, "x", "enter folders, run files"],
  [0x40, "D", "delete what is inside"], [0x10000, "d", "delete the thing itself"], [0x80, "t", "read attributes"], [0x100, "T", "write attributes"],
  [0x8, "n", "read named attributes"], [0x10, "N", "write named attributes"], [0x20000, "c", "read the list"], [0x40000, "C", "change the list"], [0x80000, "o", "change the owner"], [0x100000, "y", "synchronize"],
];
export const KNOWN: { mask: number; words: string; level: Level }[] = [
  { mask: FULL, words: "everything", level: "RW" }, { mask: WRITE, words: "read-write", level: "RW" }, { mask: READ, words: "read-only", level: "RO" }, { mask: PASS, words: "pass through", level: "PT" }, { mask: 0x10156, words: "changing", level: "RW" },
];

export const letters = (mask: number) => [1, 2, 4, 0x40, 0x10000, 0x20, 0x80, 0x100, 8, 0x10, 0x20000, 0x40000, 0x80000, 0x100000].filter((bit) => mask & bit).map((bit) => BITS.find(([b]) => b === bit)![1]).join("");
/** What people call a mask; one that is none of the usual as the largest usual one in it, and the letters of the rest. */
export function maskWords(mask: number): string {
  const known = KNOWN.find((one) => (one.mask & mask) === one.mask && one.mask !== 0x10156);
  if (!known) return KNOWN.find((one) => one.mask === mask)?.words ?? letters(mask);
  const rest = BITS.filter(([bit]) => mask & ~known.mask & bit).map(([, , words]) => words);
  return [known.words, ...(rest.length > 2 ? [letters(mask & ~known.mask)] : rest)].join(" + ");
}
export const maskLevel = (mask: number): Level => (mask & 0x6 ? "RW" : mask & 0x1 ? "RO" : mask & 0x20 ? "PT" : "NA");
export const perms = (bits: number) => `${bits & 4 ? "r" : "-"}${bits & 2 ? "w" : "-"}${bits & 1 ? "x" : "-"}`;
export const permsLevel = (bits: number): Level => (bits & 2 ? "RW" : bits & 4 ? "RO" : bits & 1 ? "PT" : "NA");

/** Where an entry counts: FILE_INHERIT 1, DIRECTORY_INHERIT 2, NO_PROPAGATE 4, INHERIT_ONLY 8. */
export const WHERE: { flags: number; words: string }[] = [
  { flags: 3, words: "this and everything below" }, { flags: 0, words: "this folder only" }, { flags: 11, words: "everything below" }, { flags: 1, words: "this folder and files below" },
  { flags: 2, words: "this folder and folders below" }, { flags: 9, words: "files below" }, { flags: 10, words: "folders below" }, { flags: 7, words: "this and what lies directly inside" }, { flags: 15, words: "what lies directly inside" },
];
export function whereWords(flags: number): string {
  const plain = flags & 15;
  const known = WHERE.find((where) => where.flags === plain);
  if (known) return known.words;
  return [plain & 8 ? "" : "this folder", plain & 1 ? "files" : "", plain & 2 ? "folders" : ""].filter(Boolean).join(", ") + (plain & 4 ? ", one level down" : "") || "nowhere";
}

export const STYLE_WORDS = { ordered: "ordered list", posix: "POSIX list", mode: "mode bits" } as const;
export type Style = keyof typeof STYLE_WORDS;
