import type { Outline, Place } from "../api/client";
import type { PlanIndex } from "../plan/index";

export interface BoardRow {
  key: string;
  who: string;
  kind: "everyone" | "group" | "person" | "guest";
  /** people under this group, where it is one */
  people?: number;
  folded?: boolean;
  flat?: boolean;
}

/** Whether the board has a row for everyone: no baseline stands for it, or something is granted to it. */
export function hasEveryone(outline: Outline): boolean {
  return !outline.target.baseline || Object.values(outline.grants).some((lines) => lines.some((line) => line.who === "everyone"));
}

/** Rows of the board: everyone, where asked for, then each group with its direct members folded under it, then who is in no group. */
export function groupedRows(index: PlanIndex, everyone: boolean, folded: ReadonlySet<string>): BoardRow[] {
  const rows: BoardRow[] = [];
  if (everyone) rows.push({ key: "everyone", who: "everyone", kind: "everyone" });
  const direct = new Map<string, string[]>();
  const loose: string[] = [];
  for (const user of index.usersByName.filter((one) => !index.aside.has(one.id))) {
    const groups = (index.groupsOf.get(user.id) ?? []).filter((group) => !index.aside.has(group));
    for (const group of groups) {
      const people = direct.get(group);
      if (people) people.push(user.id);
      else direct.set(group, [user.id]);
    }
    if (groups.length === 0) loose.push(user.id);
  }
  for (const group of index.groupsByName.filter((one) => !index.aside.has(one.id))) {
    const people = direct.get(group.id) ?? [];
    rows.push({ key: group.id, who: group.id, kind: "group", people: people.length, folded: folded.has(group.id) });
    if (!folded.has(group.id)) for (const who of people) rows.push({ key: `${group.id}|${who}`, who, kind: "person" });
  }
  for (const who of loose) rows.push({ key: `|${who}`, who, kind: "person", flat: true });
  return rows;
}

export function peopleRows(index: PlanIndex): BoardRow[] {
  const shown = index.usersByName.filter((user) => !index.aside.has(user.id));
  return shown.map((user) => ({ key: user.id, who: user.id, kind: "person", flat: true }));
}

export interface BoardColumn {
  place: Place;
  /** the place whose band it stands in: a pool, or a dataset right below a pool */
  band: string;
  depth: number;
  folds: boolean;
  folded: boolean;
}

/** Pools on which something is granted themselves. */
export const poolsGranted = (outline: Outline, index: PlanIndex): string[] =>
  (index.children.get(null) ?? []).map((pool) => pool.id).filter((pool) => outline.grants[pool]);

/** Columns: the storage tree, depth first. A pool is a column only where something is granted on it. */
export function boardColumns(index: PlanIndex, pools: ReadonlySet<string>, folded: ReadonlySet<string>): BoardColumn[] {
  const columns: BoardColumn[] = [];
  const walk = (place: Place, band: string, depth: number) => {
    const inner = index.children.get(place.id) ?? [];
    const isFolded = folded.has(place.id);
    if (place.kind !== "pool" || pools.has(place.id) || inner.length === 0)
      columns.push({ place, band, depth, folds: place.kind !== "pool" && inner.length > 0, folded: isFolded });
    if (place.kind === "pool" || !isFolded) for (const child of inner) walk(child, place.kind === "pool" ? child.id : band, depth + 1);
  };
  for (const pool of index.children.get(null) ?? []) walk(pool, pool.id, 0);
  return columns;
}
