import { expect, test } from "vitest";
import type { Level, Place } from "../api/client";
import type { Columns } from "../plan/columns";
import { indexed, type Named } from "../plan/index";
import { cellLook, type Shown } from "./looks";
import type { BoardRow } from "./rows";

const HULLS = { id: "hulls", name: "hulls", parent: "keel" } as Place;
const index = indexed({
  users: [{ id: "cy", full_name: "Cy Dahl", name: "cy" }],
  groups: [{ id: "crew", name: "Crew", members: [] }],
  places: [{ id: "keel", name: "keel", parent: null }, HULLS],
  inactive: [],
  namesakes: [],
  directories: [],
} as unknown as Named);
const row = (who: string, kind: BoardRow["kind"]): BoardRow => ({ key: who, who, kind });
const shown = (cell: unknown, more: Partial<Shown> = {}): Shown => ({
  view: "effect",
  listed: false,
  index,
  store: { cell: () => cell } as unknown as Columns,
  grants: new Map([["hulls", new Map<string, Level>([["crew", "RW"]])]]),
  camesDown: new Map(),
  cells: new Map(),
  flashing: new Set(),
  serial: 1,
  wouldChange: new Map(),
  broken: new Set(),
  fresh: new Set(),
  ...more,
});
const cy = (cell: unknown, more: Partial<Shown> = {}) => cellLook(shown(cell, more), row("cy", "person"), HULLS);

test("a cell says what comes out, from where, and what differs from the grant", () => {
  expect(cy({ level: "RW", source: "g", granted: "RW", state: "=" })).toEqual({
    cls: "RW",
    level: "RW",
    word: "group",
    label: "Cy Dahl on hulls: read-write, from a group",
  });
  const less = cy({ level: "RO", source: "l", granted: "RW", state: "<" });
  expect([less.cls, less.word]).toEqual(["RO less", "grant RW"]);
  expect(less.label).toBe("Cy Dahl on hulls: read-only, less than granted, granted read-write");
  expect(cy({ level: "NA", source: "x", granted: "NA", state: "=" }).cls).toBe("NA soft");
});

test("not set, no access and not shared never look alike", () => {
  const cells = [
    { level: "NA", source: "-", granted: "NA", state: "." },
    { level: "NA", source: "o", granted: "NA", state: "=" },
    { level: "NA", source: "i", granted: "RW", state: "u" },
    undefined,
  ].map((cell) => cy(cell));
  expect(new Set(cells.map(({ cls, level, mark }) => [cls, level, mark].join())).size).toBe(4);
  expect(cells.map((cell) => cell.label.split(": ")[1])).toEqual([
    "nothing is granted",
    "no access, own grant",
    "no share leads there, granted read-write",
    "being asked",
  ]);
});

test("what is marked is said, too: a broken promise, what is not on the appliance yet", () => {
  const cell = { level: "RW", source: "g", granted: "RW", state: "=" };
  const marked = cy(cell, { broken: new Set(["cy|hulls"]), fresh: new Set(["cy|hulls"]), flashing: new Set(["cy|hulls"]) });
  expect(marked.cls).toBe("RW flash s1 broken fresh");
  expect(marked.label).toBe("Cy Dahl on hulls: read-write, from a group, a promise is broken, not on the appliance yet");
  expect(cy(cell, { listed: true }).level).toBeUndefined();
});

test("the view of grants shows what is granted here or comes down, for everyone in every view", () => {
  const grants = (who: string, kind: BoardRow["kind"], more: Partial<Shown> = {}) =>
    cellLook(shown(undefined, { view: "grants", ...more }), row(who, kind), HULLS);
  expect(grants("crew", "group").label).toBe("Crew on hulls: granted read-write");
  expect(grants("cy", "person").cls).toBe("none");
  const came = new Map([["hulls", new Map([["cy", { who: "cy", level: "RO" as const, said_on: "keel" }]])]]);
  const down = grants("cy", "person", { camesDown: came as unknown as Shown["camesDown"] });
  expect([down.cls, down.label]).toEqual(["came RO", "Cy Dahl on hulls: read-only, comes down from keel"]);
});
