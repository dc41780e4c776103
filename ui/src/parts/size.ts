const UNITS = ["bytes", "KiB", "MiB", "GiB", "TiB"];

/** A number of bytes in the largest binary unit of which there is at least one. */
export function sizeWords(bytes: number): string {
  let [number, unit] = [bytes, 0];
  while (number >= 1024 && unit < UNITS.length - 1) [number, unit] = [number / 1024, unit + 1];
  return `${Number(number.toPrecision(4))} ${UNITS[unit]}`;
}

/** Bytes in what a person wrote: 500 GiB, 2T, 1.5 TiB; null for nothing, undefined where it is no size. */
export function sizeOf(text: string): number | null | undefined {
  if (!text.trim()) return null;
  const found = /^([\d.,]+)\s*([kmgt]?)(i?b|bytes)?$/i.exec(text.trim());
  const number = found && Number(found[1]!.replace(",", "."));
  const power = ["", "k", "m", "g", "t"].indexOf(found?.[2]?.toLowerCase() ?? "");
  return number ? Math.round(number * 1024 ** power) : undefined;
}
