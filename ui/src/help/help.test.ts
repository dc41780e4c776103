import { expect, test } from "vitest";
import { found } from "./find";
import help from "./help.json";

const words = help.words as [string, string][];

test("every station says in at most five lines what it is for", () => {
  for (const station of Object.values(help.stations)) expect([3, 4, 5]).toContain(station.lines.length);
});

test("words stand in order, each once, and each has its explanation", () => {
  const names = words.map(([word]) => word);
  expect(names).toEqual([...new Set(names)].sort(new Intl.Collator("en", { sensitivity: "base" }).compare));
  for (const [, meaning] of words) expect(meaning).toMatch(/\.$/);
});

test("a word is found by its beginning first, then by what is said of it", () => {
  expect(
    found("group", words)
      .map(([word]) => word)
      .slice(0, 2),
  ).toEqual(["Baseline group", "Owning group"]);
  expect(found("gr", words)[0]?.[0]).toBe("Grant");
  expect(found("  PASSWORD ", words).map(([word]) => word)).toEqual(["SMB"]);
  expect(found("", words)).toEqual(words);
  expect(found("no such word", words)).toEqual([]);
});
