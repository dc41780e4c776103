const UNITS = ["bytes", "KiB", "MiB", "GiB", "TiB"];

/** A number of bytes in the largest binary unit of which there is at least one. */
export function sizeWords(bytes: number): string {
  let [number, unit] = [bytes, 0];
  while (number >= 1024 && unit < UNITS.length - 1) [number, unit] = [number / 1024, unit + 1];
  return `${Number(number.toPrecision(4))} ${UNITS[unit]}`;
}

/** Bytes in what a person wrote: 500 GiB, 2T, 1.5 TiB, 1,500 GiB, 1 500 GiB; null for nothing, undefined where it is no size or could be two. */
export function sizeOf(text: string): number | null | undefined {
  if (!text.trim()) return null;
  const found = /^([\d.,'’\s]+?)\s*([kmgt]?)(i?b|bytes)?$/i.exec(text.trim());
  const number = found ? numberOf(found[1]!) : undefined;
  const power = ["", "k", "m", "g", "t"].indexOf(found?.[2]?.toLowerCase() ?? "");
  return number ? Math.round(number * 1024 ** power) : undefined;
}

/** 1500, 1 500, 1'500, 1,500 and 1,500.5; a single dot or comma with three digits behind it is a decimal sign or not, as 1.500: nobody can tell, so it is none. */
function numberOf(text: string): number | undefined {
  const plain = text.replace(/[\s'’]/g, "");
  if (/^\d+([.,]\d{1,2}|[.,]\d{4,})?$/.test(plain)) return Number(plain.replace(",", "."));
  if (/^\d{1,3}(,\d{3})+(\.\d+)?$/.test(plain)) return Number(plain.replace(/,/g, ""));
  if (/^\d{1,3}(\.\d{3}){2,}(,\d+)?$/.test(plain) || /^\d{1,3}(\.\d{3})+,\d+$/.test(plain))
    return Number(plain.replace(/\./g, "").replace(",", "."));
  return undefined;
}
