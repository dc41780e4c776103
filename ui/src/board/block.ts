import type { Level } from "../api/client";

const SPELLED: [RegExp, Level | null][] = [
  [/^(rw|w|(read[-\s/]?)?write|change|modify|full)$/i, "RW"],
  [/^(ro|r|read([-\s]?only)?)$/i, "RO"],
  [/^(na|n|no|no[-\s]?access|den(y|ied)|refused?)$/i, "NA"],
  [/^[-–—.·]?$/, null],
];

/** A block copied from a spreadsheet or from the board: levels row by row, or what could not be read. */
export function parseBlock(text: string): { block: (Level | null)[][] } | { trouble: string } {
  const lines = text.replace(/\r\n?/g, "\n").replace(/\n$/, "").split("\n");
  const block: (Level | null)[][] = [];
  for (const [row, line] of lines.entries()) {
    const levels: (Level | null)[] = [];
    for (const [col, cell] of line.split("\t").entries()) {
      const found = SPELLED.find(([pattern]) => pattern.test(cell.trim()));
      if (!found)
        return {
          trouble: `Row ${row + 1}, column ${col + 1} of what was copied says “${cell.trim().slice(0, 30)}”. Only RW, RO, NA or an empty cell can be put here.`,
        };
      levels.push(found[1]);
    }
    block.push(levels);
  }
  return { block };
}
