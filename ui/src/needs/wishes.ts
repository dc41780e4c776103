import type { Edit, Promised, Schemas } from "../api/client";
import { promiseEdit } from "../promises/words";

export type Need = Schemas["Need"];
export type Wish = Need["wish"];

export const SIGN: Record<Wish, { cls: string; mark: string; words: string }> = {
  change: { cls: "RW need", mark: "change", words: "needs to change" },
  read: { cls: "RO need", mark: "read", words: "needs to read" },
  "must not": { cls: "NA need never", mark: "must not", words: "must not get to it" },
  any: { cls: "need any", mark: "any", words: "it does not matter" },
};

const SPELLED: [RegExp, Wish | null][] = [
  [/^(c|change|w|rw|(read[-\s/]?)?write)$/i, "change"],
  [/^(r|read([-\s]?only)?|ro)$/i, "read"],
  [/^(x|must[-\s]?not|never)$/i, "must not"],
  [/^(\?|any)$/i, "any"],
  [/^[-–—.·]?$/, null],
];

/** The id of the one need that somebody has in a place. */
export const needId = (who: string, place: string) => `${who} @ ${place}`;

/**
 * What was copied from a spreadsheet: a block of wishes; or a whole table, whose first row and column are names; or what could not be read.
 * A block has no word in its corner that is not a wish.
 */
export function parseNeeds(text: string): { block: (Wish | null)[][] } | { table: string } | { trouble: string } {
  const lines = text
    .replace(/\r\n?/g, "\n")
    .replace(/\n+$/, "")
    .split("\n")
    .map((line) => line.split("\t").map((cell) => cell.trim()));
  const wish = (cell: string) => SPELLED.find(([pattern]) => pattern.test(cell))?.[1];
  const named = (cells: string[]) => cells.length > 1 && cells.slice(1).every((cell) => cell !== "" && wish(cell) === undefined);
  if (lines.length > 1 && named(lines[0]!) && named(lines.map((line) => line[0]!))) return { table: text };
  const block: (Wish | null)[][] = [];
  for (const [row, cells] of lines.entries()) {
    const found: (Wish | null)[] = [];
    for (const [col, cell] of cells.entries()) {
      const one = wish(cell);
      if (one === undefined)
        return {
          trouble: `Row ${row + 1}, column ${col + 1} of what was copied says “${cell.slice(0, 30)}”. Write change, read, must not, any or nothing; or copy the whole table, with the names in its first row and column.`,
        };
      found.push(one);
    }
    block.push(found);
  }
  return { block };
}

/** What somebody needs in a place: their own need, else the widest of their groups', where must not counts before all. */
export function needOf(said: ReadonlyMap<string, Need>, groups: readonly string[], who: string, place: string): Need | undefined {
  const own = said.get(needId(who, place));
  if (own) return own;
  const through = groups.flatMap((group) => said.get(needId(group, place)) ?? []);
  return (["must not", "change", "read", "any"] as const).flatMap((wish) => through.filter((need) => need.wish === wish))[0];
}

/** The edits that put a wish into a cell, or take what is needed out of it. */
export function wished(said: ReadonlyMap<string, Need>, who: string, place: string, wish: Wish | null): Edit[] {
  const need = needId(who, place);
  const before = said.get(need);
  if (wish === null) return before ? [{ op: "remove-need", need }] : [];
  if (before?.wish === wish) return [];
  return [{ op: "put-need", need: { note: "", asked_by: "", ...before, id: need, who, place, wish } }];
}

/** Needs that say what promises of people and groups say, where nothing is needed yet; of some over one protocol, or not to write, needs say nothing. */
export function fromPromises(
  promises: readonly Promised[],
  accounts: { has: (who: string) => boolean },
  said: ReadonlyMap<string, Need>,
): Edit[] {
  const found = new Map<string, Edit>();
  for (const one of promises) {
    const wish: Wish | null = one.must ? (one.act === "write" ? "change" : "read") : one.act === "write" ? null : "must not";
    const id = needId(one.who, one.place);
    if (!wish || one.protocol || !accounts.has(one.who) || said.has(id)) continue;
    const before = found.get(id);
    if (before?.op === "put-need" && (before.need.wish === "must not" || wish === "read")) continue;
    found.set(id, { op: "put-need", need: { id, who: one.who, place: one.place, wish, asked_by: "", note: one.note ?? "" } });
  }
  return [...found.values()];
}

/**
 * Promises of needs that are met and not promised yet; of a group's need, without those who need something else there. people: whether an id is
 * that of a person; there: ids of promises.
 */
export function promised(
  needs: readonly Need[],
  people: { has: (who: string) => boolean },
  there: ReadonlySet<string>,
  missed: (need: Need) => boolean,
): Edit[] {
  return needs.flatMap((need) => {
    if (need.wish === "any" || missed(need)) return [];
    const edit = promiseEdit(need.who, need.place, { must: need.wish !== "must not", act: need.wish === "change" ? "write" : "read" });
    if (edit.op !== "put-promise" || there.has(edit.promise.id)) return [];
    const others = people.has(need.who)
      ? []
      : needs.filter((one) => one.place === need.place && one.id !== need.id && (people.has(one.who) || one.wish === "must not"));
    return [{ ...edit, promise: { ...edit.promise, except_for: others.map((one) => one.who), note: need.note ?? "" } }];
  });
}
