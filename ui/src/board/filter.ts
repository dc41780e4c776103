import type { Level, Outline } from "../api/client";
import { shownName, type PlanIndex } from "../plan/index";
import type { BoardColumn, BoardRow } from "./rows";

/** Which rows, columns and cells of the board are looked at; it stands in the address, so that a link shows the same. */
export interface Filter {
  rows: string;
  kind: "" | "person" | "service" | "group";
  within: string;
  people: string[];
  columns: string;
  below: string;
  cells: "" | "personal" | "fresh" | "version" | "differ" | "mine" | "needs";
  version: string;
  /** the place whose levels people are sorted by, who get most first */
  sort: string;
}

const KEYS: Record<keyof Filter, string> = {
  rows: "rq",
  kind: "kind",
  within: "in",
  people: "only",
  columns: "cq",
  below: "below",
  cells: "cells",
  version: "version",
  sort: "sort",
};

/** The parts of an address that say what is filtered. */
export const FILTER_KEYS = Object.values(KEYS);

export function filterOf(params: URLSearchParams): Filter {
  const say = (key: keyof Filter) => params.get(KEYS[key]) ?? "";
  const one = <T extends string>(key: keyof Filter, known: readonly T[]) => known.find((value) => value === say(key)) ?? ("" as const);
  return {
    rows: say("rows"),
    kind: one("kind", ["person", "service", "group"]),
    within: say("within"),
    people: say("people").split(",").filter(Boolean),
    columns: say("columns"),
    below: say("below"),
    cells: one("cells", ["personal", "fresh", "version", "differ", "mine", "needs"]),
    version: say("version"),
    sort: say("sort"),
  };
}

/** A change of the filter, as it is written into the address. */
export const asAddress = (change: Partial<Filter>): Record<string, string | null> =>
  Object.fromEntries(
    Object.entries(change).map(([key, value]) => [KEYS[key as keyof Filter], (Array.isArray(value) ? value.join(",") : value) || null]),
  );

export const filters = (filter: Filter): number =>
  [filter.rows.trim(), filter.kind, filter.within, filter.people.length > 0, filter.columns.trim(), filter.below, filter.cells].filter(
    Boolean,
  ).length;

/** The rows that are asked for: a person by name, kind or group, a group by name; a group stays above its people, and its people below it where its own name is asked for. */
export function filteredRows(rows: BoardRow[], index: PlanIndex, filter: Filter): BoardRow[] {
  const text = filter.rows.trim().toLowerCase();
  const only = new Set(filter.people);
  if (!text && !filter.kind && !filter.within && only.size === 0) return rows;
  const members = filter.within ? new Set(index.groups.get(filter.within)?.members) : null;
  const named = (who: string) => {
    const user = index.users.get(who);
    const group = index.groups.get(who);
    return `${user ? `${shownName(user)} ${user.name}` : (group?.name ?? who)}`.toLowerCase().includes(text);
  };
  const wanted = (row: BoardRow, byGroup: boolean) => {
    const user = index.users.get(row.who);
    if (only.size > 0) return only.has(row.who);
    if (members && !members.has(row.who) && row.who !== filter.within && !(members && user?.primary_group === filter.within)) return false;
    if (user) return (byGroup || !text || named(row.who)) && (!filter.kind || (user.kind ?? "person") === filter.kind);
    return (!text || named(row.who)) && (!filter.kind || filter.kind === "group");
  };
  const found: BoardRow[] = [];
  let above: { row: BoardRow; named: boolean; put: boolean } | null = null;
  for (const row of rows) {
    if (row.kind === "person" && !row.flat) {
      if (!wanted(row, above?.named ?? false)) continue;
      if (above && !above.put) {
        found.push(above.row);
        above.put = true;
      }
      found.push(row);
    } else {
      const put = wanted(row, false);
      if (put) found.push(row);
      above = row.kind === "group" ? { row, named: Boolean(text) && named(row.who), put } : null;
    }
  }
  return found;
}

const MOST_FIRST: Level[] = ["RW", "RO", "PT", "NA"];

/** People by what they get in a place, who get most first: within each group where the rows are groups. Groups keep their places. */
export function sortedRows(rows: BoardRow[], level: (who: string) => Level | undefined): BoardRow[] {
  const rank = (row: BoardRow) => {
    const found = level(row.who);
    return found ? MOST_FIRST.indexOf(found) : MOST_FIRST.length;
  };
  const found: BoardRow[] = [];
  let some: BoardRow[] = [];
  const put = () => {
    found.push(...some.toSorted((one, other) => rank(one) - rank(other)));
    some = [];
  };
  for (const row of rows) {
    if (row.kind === "person") some.push(row);
    else {
      put();
      found.push(row);
    }
  }
  put();
  return found;
}

/** The columns that are asked for, by name or by what they lie in. */
export function filteredColumns(columns: BoardColumn[], index: PlanIndex, filter: Filter): BoardColumn[] {
  const text = filter.columns.trim().toLowerCase();
  if (!text && !filter.below) return columns;
  const lies = (place: string) => {
    for (let here: string | null = place; here; here = index.places.get(here)?.parent ?? null) if (here === filter.below) return true;
    return false;
  };
  return columns.filter(({ place }) => (!text || place.name.toLowerCase().includes(text)) && (!filter.below || lies(place.id)));
}

/** Cells as `who|place`, with all who and all places in them. */
export interface Cells {
  who: Set<string>;
  places: Set<string>;
  keys: Set<string>;
}

export function cellSet(cells: Iterable<{ subject: string; place: string }>): Cells {
  const found: Cells = { who: new Set(), places: new Set(), keys: new Set() };
  for (const { subject, place } of cells) {
    found.who.add(subject);
    found.places.add(place);
    found.keys.add(`${subject}|${place}`);
  }
  return found;
}

/** Where something is granted to a person, not to a group. */
export const personal = (outline: Outline, index: PlanIndex): Cells =>
  cellSet(
    Object.entries(outline.grants).flatMap(([place, lines]) =>
      lines.filter((line) => index.users.has(line.who)).map((line) => ({ subject: line.who, place })),
    ),
  );
