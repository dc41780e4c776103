import { expect, test } from "vitest";
import { ENGLISH, fill, translation } from "./words";

test("names are put where a translation has them", () => {
  expect(fill("Zugang zu {server}, {server}!", { server: "keelson" })).toBe("Zugang zu keelson, keelson!");
  expect(fill("{unknown} stays", {})).toBe("{unknown} stays");
});

test("a translation may leave words out; what is none is refused in words", () => {
  expect(translation('{"closed": "Einige Ordner sind zu."}')).toEqual({ ...ENGLISH, closed: "Einige Ordner sind zu." });
  for (const text of ["nonsense", "[]", "3", '{"other": "x"}', '{"closed": 3}']) expect(translation(text)).toHaveProperty("trouble");
});
