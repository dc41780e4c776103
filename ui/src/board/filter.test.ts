import { expect, test } from "vitest";
import type { Outline } from "../api/client";
import { indexed } from "../plan/index";
import { asAddress, cellSet, filteredColumns, filteredRows, filterOf, filters, personal } from "./filter";
import { boardColumns, groupedRows, peopleRows } from "./rows";

const outline = {
  users: [
    { id: "ann", name: "ann.lee", full_name: "Ann Lee", kind: "person" },
    { id: "bo", name: "bo.finn", full_name: "Bo Finn", kind: "person", primary_group: "crew" },
    { id: "copy", name: "night-copy", full_name: "", kind: "service" },
  ],
  groups: [
    { id: "crew", name: "Crew", members: ["ann"] },
    { id: "desk", name: "Desk", members: ["bo", "copy"] },
  ],
  places: [
    { id: "keel", name: "keel", kind: "pool", parent: null },
    { id: "jobs", name: "jobs", kind: "dataset", parent: "keel" },
    { id: "wages", name: "wages", kind: "folder", parent: "jobs" },
    { id: "pictures", name: "pictures", kind: "dataset", parent: "keel" },
  ],
  grants: { jobs: [{ who: "crew", level: "RW" }], wages: [{ who: "bo", level: "RO" }] },
  inactive: [],
  namesakes: [],
  directories: [],
} as unknown as Outline;
const index = indexed(outline);
const none = filterOf(new URLSearchParams());
const rows = groupedRows(index, false, new Set());
const who = (some: { who: string }[]) => some.map((row) => row.who);

test("no filter leaves everything as it is", () => {
  expect(filters(none)).toBe(0);
  expect(filteredRows(rows, index, none)).toBe(rows);
});

test("a person is found with the groups above; a group's name keeps its people", () => {
  expect(who(filteredRows(rows, index, { ...none, rows: "finn" }))).toEqual(["crew", "bo", "desk", "bo"]);
  expect(who(filteredRows(rows, index, { ...none, rows: "desk" }))).toEqual(["desk", "bo", "copy"]);
  expect(who(filteredRows(rows, index, { ...none, kind: "service" }))).toEqual(["desk", "copy"]);
  expect(who(filteredRows(rows, index, { ...none, kind: "group" }))).toEqual(["crew", "desk"]);
});

test("by group and by some people", () => {
  expect(who(filteredRows(peopleRows(index), index, { ...none, within: "crew" }))).toEqual(["ann", "bo"]);
  expect(who(filteredRows(peopleRows(index), index, { ...none, people: ["copy", "ann"] }))).toEqual(["ann", "copy"]);
});

test("places by name and by what they lie in", () => {
  const columns = boardColumns(index, new Set(), new Set());
  const names = (change: object) => filteredColumns(columns, index, { ...none, ...change }).map((one) => one.place.id);
  expect(names({ columns: "AGE" })).toEqual(["wages"]);
  expect(names({ below: "jobs" })).toEqual(["jobs", "wages"]);
});

test("a filter stands in the address and is read from it", () => {
  const filter = { ...none, rows: "a b", people: ["ann", "bo"], cells: "personal" as const };
  const params = new URLSearchParams();
  for (const [key, value] of Object.entries(asAddress(filter))) if (value !== null) params.set(key, value);
  expect(filterOf(new URLSearchParams(params.toString()))).toEqual(filter);
  expect(filterOf(new URLSearchParams("cells=nonsense&kind=x"))).toEqual(none);
});

test("personal grants are those to people", () => {
  expect([...personal(outline, index).keys]).toEqual(["bo|wages"]);
  expect(cellSet([]).keys.size).toBe(0);
});
