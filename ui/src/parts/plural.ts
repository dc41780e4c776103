/** "1 cell", "2 cells". */
export function plural(count: number, one: string, many = `${one}s`): string {
  return `${count.toLocaleString()} ${count === 1 ? one : many}`;
}

/** Names, the first of many alone: "ann, bo and 3 more". all: how many there are, where these are the first of them. */
export function few(names: readonly string[], most = 12, all = names.length): string {
  const rest = all - Math.min(most, names.length);
  return names.slice(0, most).join(", ") + (rest > 0 ? ` and ${rest.toLocaleString()} more` : "");
}
