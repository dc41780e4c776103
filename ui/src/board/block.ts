import type { Edit, Level } from "../api/client";
import type { Spot } from "../parts/Grid";
import type { BoardColumn, BoardRow } from "./rows";

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

/** The grants that setting a block to levels means; a person who stands under several groups counts once. undefined: as it is. */
export function blockEdits(
  rows: readonly BoardRow[],
  columns: readonly BoardColumn[],
  grants: ReadonlyMap<string, ReadonlyMap<string, Level>>,
  a: Spot,
  b: Spot,
  level: (row: number, col: number) => Level | null | undefined,
): Edit[] {
  const found = new Map<string, Edit>();
  for (let row = Math.min(a.row, b.row); row <= Math.max(a.row, b.row); row++) {
    for (let col = Math.min(a.col, b.col); col <= Math.max(a.col, b.col); col++) {
      const [who, place] = [rows[row]?.who, columns[col]?.place.id];
      const value = level(row, col);
      if (who && who !== "guest" && place && value !== undefined && (grants.get(place)?.get(who) ?? null) !== value)
        found.set(`${who}|${place}`, { op: "set-grant", place, who, level: value, at: null });
    }
  }
  return [...found.values()];
}
