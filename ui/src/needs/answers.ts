import type { Schemas } from "../api/client";

export type Found = Schemas["SuggestionOut"];

const LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";

/** The letter of a group of an answer, by its number. */
export const letter = (number: number) => LETTERS[number % 26]! + (number >= 26 ? Math.floor(number / 26) : "");

/** By which groups of an answer people get something in a place, as letters; • is a grant of their own. Keys "who place". */
export function givenBy(found: Found): Map<string, string> {
  const given = new Map<string, string>();
  const add = (who: string, place: string, sign: string) => given.set(`${who} ${place}`, (given.get(`${who} ${place}`) ?? "") + sign);
  for (const [number, group] of found.groups.entries())
    for (const grant of group.grants) for (const who of group.members) add(who, grant.place, letter(number));
  for (const one of found.singles) for (const grant of one.grants) add(one.user, grant.place, "•");
  return given;
}

/** The edits of an answer for some of its places only, and the groups that are needed there; with the names that were given to new groups. */
export function chosenEdits(found: Found, places: ReadonlySet<string>, names: ReadonlyMap<string, string>): Found["edits"] {
  const here = found.edits.filter((edit) => {
    if (edit.op === "set-grant") return places.has(edit.place);
    return edit.op === "put-place" ? places.has(edit.place.id) : false;
  });
  const whos = new Set(here.flatMap((edit) => (edit.op === "set-grant" && edit.level ? [edit.who] : [])));
  const all = new Map(found.edits.flatMap((edit) => (edit.op === "put-group" ? [[edit.group.id, edit] as const] : [])));
  const take = (group: string) => {
    for (const inner of all.get(group)?.group.members ?? [])
      if (all.has(inner) && !whos.has(inner)) {
        whos.add(inner);
        take(inner);
      }
  };
  for (const who of [...whos]) take(who);
  const groups = [...all.values()].filter((edit) => whos.has(edit.group.id));
  const moves = found.edits.filter((edit) => edit.op === "join" || edit.op === "leave");
  return [
    ...groups.map((edit) => ({ ...edit, group: { ...edit.group, name: names.get(edit.group.id)?.trim() || edit.group.name } })),
    ...moves,
    ...here,
  ];
}

/** The places of an answer in parts that can be taken each for itself: a place with all that is asked for below it. */
export function parts(found: Found, above: (place: string) => string | null | undefined): Map<string, Set<string>> {
  const asked = new Set(
    found.edits.flatMap((edit) => (edit.op === "set-grant" ? [edit.place] : edit.op === "put-place" ? [edit.place.id] : [])),
  );
  const top = (place: string): string => {
    let found = place;
    for (let up = above(place); up; up = above(up)) if (asked.has(up)) found = up;
    return found;
  };
  const split = new Map<string, Set<string>>();
  for (const place of asked) {
    const root = top(place);
    split.set(root, (split.get(root) ?? new Set()).add(place));
  }
  return split;
}

/** Below that, no answer can be noticeably better. */
export const SMALL = 0.0005;

/** The answers with one more, where it is better in what it is for. */
export function withAnswer(answers: Found[], one: Found): Found[] {
  if (one.kind === "exact") return [one];
  const exact = answers[0];
  if (!exact) return answers;
  const last = answers.findLast((other) => other.kind === "simpler") ?? exact;
  const better =
    one.kind === "fewer groups"
      ? one.new_groups < exact.new_groups
      : one.kind === "fewer exceptions"
        ? one.personal < exact.personal
        : one.cost < last.cost && one.beyond.length > last.beyond.length && 2 * one.beyond.length <= one.needs;
  return better ? [...answers, one] : answers;
}
