import { letters as LETTERS, rights, sets, styles, where } from "../api/facts.json";
import type { Level } from "../api/client";

/** Access masks as they are said in a list (the bits of RFC 8881, 6.2.1.3.1), and what people call them: all of it from the core. */
export const BITS = rights as [bit: number, letter: string, words: string][];
export const KNOWN: { mask: number; words: string }[] = sets;
const CHANGE = sets.find((one) => one.words === "changing")!.mask;

export const letters = (mask: number) =>
  (LETTERS as [number, string][])
    .filter(([bit]) => mask & bit)
    .map(([, letter]) => letter)
    .join("");
/** An access mask as people say it: the largest set with a name that is in it, and what is beyond; more than two rights beyond as letters. */
export function maskWords(mask: number): string {
  const known = sets.find((one) => one.mask === mask) ?? sets.find((one) => (one.mask & mask) === one.mask && one.mask !== CHANGE);
  const beyond = mask & ~(known?.mask ?? 0);
  const single = BITS.filter(([bit]) => beyond & bit).map(([, , words]) => words);
  return [...(known ? [known.words] : []), ...(single.length > 2 ? [letters(beyond)] : single)].join(" + ") || "nothing";
}
export const maskLevel = (mask: number): Level => (mask & 0x6 ? "RW" : mask & 0x1 ? "RO" : mask & 0x20 ? "PT" : "NA");
export const perms = (bits: number) => `${bits & 4 ? "r" : "-"}${bits & 2 ? "w" : "-"}${bits & 1 ? "x" : "-"}`;
export const permsLevel = (bits: number): Level => (bits & 2 ? "RW" : bits & 4 ? "RO" : bits & 1 ? "PT" : "NA");

/** Where an entry counts: FILE_INHERIT 1, DIRECTORY_INHERIT 2, NO_PROPAGATE 4, INHERIT_ONLY 8. */
export const WHERE: { flags: number; words: string }[] = where;
export function whereWords(flags: number): string {
  const plain = flags & 15;
  const known = WHERE.find((one) => one.flags === plain);
  if (known) return known.words;
  const said = [plain & 8 ? "" : "this folder", plain & 1 ? "files" : "", plain & 2 ? "folders" : ""].filter(Boolean).join(", ");
  return said && plain & 4 ? `${said}, one level down` : said || "nowhere";
}

export const STYLE_WORDS = styles;
export type Style = keyof typeof STYLE_WORDS;
