/** The words in which a text stands, those that begin with it first; in their explanations, too. All of them where nothing is looked for. */
export function found(text: string, words: [string, string][]): [string, string][] {
  const wanted = text.trim().toLowerCase();
  const rank = ([word, meaning]: [string, string]) => {
    const at = word.toLowerCase().indexOf(wanted);
    return at === 0 ? 0 : at > 0 ? 1 : meaning.toLowerCase().includes(wanted) ? 2 : 3;
  };
  return words
    .map((one) => [rank(one), one] as const)
    .filter(([number]) => number < 3)
    .sort(([a], [b]) => a - b)
    .map(([, one]) => one);
}
