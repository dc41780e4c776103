import english from "./card.words.json";

export type Words = Record<keyof typeof english, string>;
export const ENGLISH: Words = english;

/** A text with what stands in braces put in: {server} is the server's name, as a translation may have it anywhere. */
export const fill = (text: string, values: Record<string, string>) =>
  text.replace(/\{(\w+)\}/g, (whole, name: string) => values[name] ?? whole);

/** A translation: the same keys as the English file, in a text file (JSON) that somebody translated. What it leaves out stays English. */
export function translation(text: string): Words | { trouble: string } {
  let found: unknown;
  try {
    found = JSON.parse(text);
  } catch {
    return {
      trouble:
        "This is not a file of words: it cannot be read as JSON. Save the English words, and translate what stands behind the colons.",
    };
  }
  if (typeof found !== "object" || found === null || Array.isArray(found)) return { trouble: "This is not a file of words." };
  const known = Object.entries(found).filter(([key, value]) => key in english && typeof value === "string");
  if (known.length === 0)
    return { trouble: "None of the words in this file are words of the cards. Save the English ones to see which there are." };
  return { ...ENGLISH, ...(Object.fromEntries(known) as Partial<Words>) };
}
