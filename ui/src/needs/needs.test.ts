import { expect, test } from "vitest";
import { chosenEdits, givenBy, letter, parts, withAnswer, type Found } from "./answers";
import { fromPromises, needOf, parseNeeds, promised, wished, type Need } from "./wishes";

const need = (who: string, place: string, wish: Need["wish"]): Need => ({
  id: `${who} @ ${place}`,
  who,
  place,
  wish,
  asked_by: "",
  note: "",
});
const found = (change: Partial<Found>): Found => ({
  revision: 1,
  kind: "exact",
  cost: 20,
  needs: 10,
  new_groups: 2,
  memberships: 4,
  grants: 4,
  personal: 1,
  gap: 0,
  proven: true,
  given: [],
  groups: [],
  singles: [],
  edits: [],
  roles: [],
  misses: [],
  beyond: [],
  conflicts: [],
  ...change,
});

test("a block of wishes is told from a whole table, and what cannot be read is said", () => {
  expect(parseNeeds("change\tR\n\tmust not\r\nx\t?\n")).toEqual({
    block: [
      ["change", "read"],
      [null, "must not"],
      ["must not", "any"],
    ],
  });
  const table = "\thulls\tphotos\nAda\tread\tchange\n";
  expect(parseNeeds(table)).toEqual({ table });
  expect(parseNeeds("read\tperhaps")).toMatchObject({ trouble: expect.stringContaining("Row 1, column 2") as string });
  expect(parseNeeds("read")).toEqual({ block: [["read"]] });
});

test("somebody's own need counts before their groups', of which must not counts before all", () => {
  const said = new Map(
    [need("crew", "hulls", "change"), need("temps", "hulls", "must not"), need("ann", "hulls", "read")].map((one) => [one.id, one]),
  );
  expect(needOf(said, ["crew", "temps"], "ann", "hulls")?.wish).toBe("read");
  expect(needOf(said, ["crew", "temps"], "bo", "hulls")?.who).toBe("temps");
  expect(needOf(said, ["crew"], "bo", "hulls")?.wish).toBe("change");
  expect(needOf(said, [], "bo", "hulls")).toBeUndefined();
  expect(wished(said, "ann", "hulls", "read")).toEqual([]);
  expect(wished(said, "ann", "hulls", null)).toEqual([{ op: "remove-need", need: "ann @ hulls" }]);
  expect(wished(said, "bo", "hulls", null)).toEqual([]);
});

test("promises are made of needs that are met, without those who need something else", () => {
  const needs = [
    need("crew", "hulls", "change"),
    need("ann", "hulls", "must not"),
    need("temps", "hulls", "must not"),
    need("bo", "photos", "any"),
  ];
  const people = new Set(["ann", "bo"]);
  const all = promised(needs, people, new Set(), () => false);
  expect(
    all.map((edit) => edit.op === "put-promise" && [edit.promise.who, edit.promise.must, edit.promise.act, edit.promise.except_for]),
  ).toEqual([
    ["crew", true, "write", ["ann", "temps"]],
    ["ann", false, "read", []],
    ["temps", false, "read", ["ann"]],
  ]);
  const ids = all.map((edit) => (edit.op === "put-promise" ? edit.promise.id : ""));
  expect(promised(needs, people, new Set(ids), () => false)).toEqual([]);
  expect(promised(needs, people, new Set(), () => true)).toEqual([]);
});

test("promises become needs where nothing is needed yet", () => {
  const promise = (who: string, must: boolean, act: "see" | "read" | "write", place: string, protocol: "smb" | null = null) => ({
    id: `${who} ${act} ${place}`,
    who,
    must,
    act,
    place,
    except_for: [],
    protocol,
    note: "",
  });
  const all = [
    promise("crew", true, "read", "hulls"),
    promise("crew", true, "write", "hulls"),
    promise("ann", false, "read", "hulls"),
    promise("ann", true, "read", "hulls"),
    promise("ann", false, "write", "photos"),
    promise("crew", true, "read", "photos", "smb"),
    promise("guest", false, "see", "hulls"),
    promise("bo", true, "read", "hulls"),
  ];
  const said = new Map([["bo @ hulls", need("bo", "hulls", "any")]]);
  const found = fromPromises(all, new Set(["crew", "ann", "bo"]), said);
  expect(found.map((edit) => edit.op === "put-need" && [edit.need.id, edit.need.wish])).toEqual([
    ["crew @ hulls", "change"],
    ["ann @ hulls", "must not"],
  ]);
});

test("only what is better in what it is for stands beside the exact answer", () => {
  const exact = found({});
  expect(withAnswer([], exact)).toEqual([exact]);
  expect(withAnswer([exact], found({ kind: "fewer groups", new_groups: 2 }))).toEqual([exact]);
  const fewer = found({ kind: "fewer groups", new_groups: 1, cost: 22 });
  const beyond = [{ user: "ann", place: "hulls", needed: "NA" as const, gets: "RO" as const }];
  const simpler = found({ kind: "simpler", cost: 16, beyond });
  const both = withAnswer(withAnswer([exact], fewer), simpler);
  expect(both).toEqual([exact, fewer, simpler]);
  expect(withAnswer(both, found({ kind: "simpler", cost: 15, beyond }))).toEqual(both);
  expect(withAnswer(both, found({ kind: "simpler", cost: 9, beyond: Array.from({ length: 6 }, () => beyond[0]!) }))).toEqual(both);
  expect(withAnswer(both, exact)).toEqual([exact]);
});

const answer = found({
  groups: [
    {
      id: "big",
      name: "big",
      there: false,
      members: ["ann", "bo", "cy"],
      inside: ["small"],
      joins: [],
      leaves: [],
      grants: [{ place: "hulls", level: "RW" }],
    },
    {
      id: "small",
      name: "small",
      there: false,
      members: ["ann", "bo"],
      inside: [],
      joins: [],
      leaves: [],
      grants: [{ place: "photos", level: "RO" }],
    },
  ],
  singles: [{ user: "cy", grants: [{ place: "photos", level: "RO" }] }],
  edits: [
    { op: "put-group", group: { id: "small", name: "small", members: ["ann", "bo"] } as never },
    { op: "put-group", group: { id: "big", name: "big", members: ["small", "cy"] } as never },
    { op: "set-grant", place: "hulls", who: "big", level: "RW", at: 0 },
    { op: "set-grant", place: "photos", who: "old", level: null, at: null },
    { op: "set-grant", place: "photos", who: "cy", level: "RO", at: 0 },
    { op: "set-grant", place: "photos", who: "small", level: "RO", at: 0 },
  ],
});

test("the letters say by which groups somebody gets something, and a dot by a grant of their own", () => {
  expect(letter(27)).toBe("B1");
  expect([...givenBy(answer)]).toEqual([
    ["ann hulls", "A"],
    ["bo hulls", "A"],
    ["cy hulls", "A"],
    ["ann photos", "B"],
    ["bo photos", "B"],
    ["cy photos", "•"],
  ]);
});

test("a part of an answer takes along the groups that it needs, by the names that they were given", () => {
  const hulls = chosenEdits(answer, new Set(["hulls"]), new Map([["big", "crew"]]));
  expect(hulls.map((edit) => (edit.op === "put-group" ? edit.group.name : edit.op === "set-grant" ? edit.who : ""))).toEqual([
    "small",
    "crew",
    "big",
  ]);
  const photos = chosenEdits(answer, new Set(["photos"]), new Map());
  expect(photos.map((edit) => edit.op)).toEqual(["put-group", "set-grant", "set-grant", "set-grant"]);
  expect([...parts(answer, (place) => (place === "photos" ? "hulls" : null))]).toEqual([["hulls", new Set(["hulls", "photos"])]]);
  expect(parts(answer, () => null).size).toBe(2);
});
