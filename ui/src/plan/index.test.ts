import { expect, test } from "vitest";
import type { Outline } from "../api/client";
import { boardColumns, groupedRows, hasEveryone, poolsGranted } from "../board/rows";
import { below, calledName, indexed, pathName, whoName } from "./index";

const user = (id: string, more = {}) => ({ id, name: id, full_name: "", enabled: true, ...more });
const group = (id: string, members: string[]) => ({ id, name: id, members });
const place = (id: string, parent: string | null, kind = "dataset") => ({ id, name: id, parent, kind });

function outline(more: object = {}): Outline {
  return {
    users: [user("ann", { full_name: "Zoe Ann", primary_group: "crew" }), user("bo"), user("cy", { origin: "corp" })],
    groups: [group("crew", ["bo", "crew10"]), group("crew2", ["crew"]), group("crew10", ["crew2"])],
    places: [place("tank", null, "pool"), place("office", "tank"), place("b10", "office"), place("b2", "office")],
    grants: {},
    inactive: [],
    namesakes: ["cy"],
    directories: [{ id: "corp", name: "CORP" }],
    target: {},
    ...more,
  } as unknown as Outline;
}

test("names: shown, called, and of accounts that share one", () => {
  const index = indexed(outline());
  expect(["ann", "cy", "everyone", "nobody"].map((who) => whoName(index, who))).toEqual(["Zoe Ann", "cy (CORP)", "Everyone", "nobody"]);
  expect(calledName(index, "cy")).toBe("CORP\\cy");
  expect(pathName(index, "b2")).toBe("tank / office / b2");
});

test("rows: each group with its own people, then who is in none; numbers in names count as numbers", () => {
  const index = indexed(outline());
  expect(groupedRows(index, true, new Set(["crew10"])).map((row) => row.key)).toEqual([
    "everyone",
    "crew",
    "crew|bo",
    "crew|ann",
    "crew2",
    "crew10",
    "|cy",
  ]);
  expect(groupedRows(index, false, new Set(["crew"]))[0]).toMatchObject({ key: "crew", people: 2, folded: true });
});

test("columns: the tree, and a pool only where something is granted there", () => {
  const plan = outline();
  const index = indexed(plan);
  expect(boardColumns(index, new Set(poolsGranted(plan, index)), new Set()).map((column) => [column.place.id, column.depth])).toEqual([
    ["office", 1],
    ["b2", 2],
    ["b10", 2],
  ]);
  expect(
    boardColumns(index, new Set(poolsGranted(outline({ grants: { tank: [] } }), index)), new Set(["office"])).map(
      (column) => column.place.id,
    ),
  ).toEqual(["tank", "office"]);
  expect(below(index, "tank").map((one) => one.id)).toEqual(["office", "b2", "b10"]);
});

test("a row for everyone where no group stands for all, or where something is granted to it", () => {
  expect(hasEveryone(outline())).toBe(true);
  expect(hasEveryone(outline({ target: { baseline: "crew" } }))).toBe(false);
  expect(hasEveryone(outline({ target: { baseline: "crew" }, grants: { tank: [{ who: "everyone", level: "RO" }] } }))).toBe(true);
});
