import { expect, test } from "vitest";
import type { Level } from "../api/client";
import { blockEdits, parseBlock } from "./block";
import type { BoardColumn, BoardRow } from "./rows";

test("a block of a spreadsheet, in all that people write for a level", () => {
  expect(parseBlock("RW\tread only\tn\r\nWrite\t-\t\r\n")).toEqual({
    block: [
      ["RW", "RO", "NA"],
      ["RW", null, null],
    ],
  });
  expect(parseBlock("read/write\tread-write\tdenied\t—")).toEqual({ block: [["RW", "RW", "NA", null]] });
});

test("what is no level is told with its row and column, and cut where it is long", () => {
  expect(parseBlock(`RW\tRO\nNA\t${"x".repeat(99)}`)).toEqual({
    trouble: `Row 2, column 2 of what was copied says “${"x".repeat(30)}”. Only RW, RO, NA or an empty cell can be put here.`,
  });
});

test("a block set to a level is a grant for each cell that differs, once for a person under several groups, never for the guest", () => {
  const row = (who: string, kind: BoardRow["kind"] = "person") => ({ key: who, who, kind });
  const column = (id: string) => ({ place: { id } }) as BoardColumn;
  const rows = [row("cy"), row("crew", "group"), { ...row("cy"), key: "crew|cy" }, row("guest", "guest")];
  const grants = new Map([["hulls", new Map<string, Level>([["crew", "RW"]])]]);
  const set = (who: string, place: string, level: Level | null) => ({ op: "set-grant", place, who, level, at: null });
  const block = (level: (row: number, col: number) => Level | null | undefined) =>
    blockEdits(rows, [column("hulls"), column("jobs")], grants, { row: 5, col: 1 }, { row: 0, col: 0 }, level);
  expect(block(() => "RW")).toEqual([set("cy", "hulls", "RW"), set("cy", "jobs", "RW"), set("crew", "jobs", "RW")]);
  expect(block(() => null)).toEqual([set("crew", "hulls", null)]);
  expect(block((at, col) => (at === 0 && col === 1 ? "NA" : undefined))).toEqual([set("cy", "jobs", "NA")]);
});
