import type { Group, Outline, Place, User } from "../api/client";

/** What is looked up again and again in an outline. */
export interface PlanIndex {
  users: Map<string, User>;
  groups: Map<string, Group>;
  places: Map<string, Place>;
  /** subject id -> its number in the columns: users by id, then groups by id */
  number: Map<string, number>;
  /** by the name they are shown by */
  /** what the server has for itself, and nothing is granted to: not on the board */
  aside: ReadonlySet<string>;
  usersByName: User[];
  groupsByName: Group[];
  children: Map<string | null, Place[]>;
  /** principal id -> groups that name it, or that are its primary group */
  groupsOf: Map<string, string[]>;
  inactive: Set<string>;
  /** accounts that are shown by the name of one from elsewhere */
  namesakes: Set<string>;
  /** directory id -> its short name */
  directories: Map<string, string>;
}

const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });
export const compareNames = (a: { name: string; id: string }, b: { name: string; id: string }) =>
  byName.compare(a.name, b.name) || (a.id < b.id ? -1 : 1);
export const shownName = (user: User) => user.full_name || user.name;
const compareUsers = (a: User, b: User) => byName.compare(shownName(a), shownName(b)) || (a.id < b.id ? -1 : 1);

/** The parts of an outline that an edit of grants leaves as they are. */
export type Named = Pick<Outline, "users" | "groups" | "places" | "inactive" | "namesakes" | "directories">;

/** Accounts of the server's own, its groups that none of the others are in, and empty groups that are called as somebody is, as hosts make them. */
function aside(outline: Named): ReadonlySet<string> {
  const hosts = new Set(outline.users.filter((user) => user.of_host).map((user) => user.id));
  const names = new Set(outline.users.map((user) => user.name));
  const primary = new Map<string, string[]>();
  for (const user of outline.users)
    if (user.primary_group && !user.of_host) primary.set(user.primary_group, [...(primary.get(user.primary_group) ?? []), user.name]);
  const groups = outline.groups.filter((group) => {
    const inIt = [...group.members.filter((who) => !hosts.has(who)), ...(primary.get(group.id) ?? [])];
    return group.of_host ? inIt.length === 0 : names.has(group.name) && inIt.every((name) => name === group.name);
  });
  return new Set([...hosts, ...groups.map((group) => group.id)]);
}

export function indexed(outline: Named): PlanIndex {
  const number = new Map<string, number>();
  for (const record of [...outline.users, ...outline.groups]) number.set(record.id, number.size);
  const children = new Map<string | null, Place[]>();
  for (const place of outline.places) {
    const parent = place.parent ?? null;
    children.set(parent, [...(children.get(parent) ?? []), place]);
  }
  for (const list of children.values()) list.sort(compareNames);
  const groupsOf = new Map<string, string[]>();
  const put = (who: string, group: string) => {
    const list = groupsOf.get(who) ?? [];
    if (!list.includes(group)) groupsOf.set(who, [...list, group]);
  };
  for (const group of outline.groups) for (const member of group.members) put(member, group.id);
  for (const user of outline.users) if (user.primary_group) put(user.id, user.primary_group);
  return {
    users: new Map(outline.users.map((user) => [user.id, user])),
    groups: new Map(outline.groups.map((group) => [group.id, group])),
    places: new Map(outline.places.map((place) => [place.id, place])),
    number,
    aside: aside(outline),
    usersByName: [...outline.users].sort(compareUsers),
    groupsByName: [...outline.groups].sort(compareNames),
    children,
    groupsOf,
    inactive: new Set(outline.inactive),
    namesakes: new Set(outline.namesakes),
    directories: new Map(outline.directories.map((directory) => [directory.id, directory.name])),
  };
}

export function whoName(index: PlanIndex, who: string): string {
  if (who === "everyone") return "Everyone";
  if (who === "guest") return "Guests";
  const user = index.users.get(who);
  const name = user ? shownName(user) : (index.groups.get(who)?.name ?? who);
  return index.namesakes.has(who) ? `${name} (${sourceName(index, who)})` : name;
}

/** Where an account comes from, in a word: local, or the short name of its directory. */
export function sourceName(index: PlanIndex, who: string): string {
  const origin = (index.users.get(who) ?? index.groups.get(who))?.origin ?? "local";
  return index.directories.get(origin) ?? origin;
}

/** The sign-in name, which nobody else has: a directory's accounts with its short name before them. */
export function calledName(index: PlanIndex, who: string): string {
  const account = index.users.get(who) ?? index.groups.get(who);
  return !account ? who : isLocal(account) ? account.name : `${sourceName(index, who)}\\${account.name}`;
}

export const isLocal = (account: { origin?: string }) => (account.origin ?? "local") === "local";

/** What a picker says of an account: the name it is shown by and, from a directory, the one it signs in with. Both can be searched. */
export function pickName(index: PlanIndex, who: string): string {
  const account = index.users.get(who) ?? index.groups.get(who);
  const name = whoName(index, who);
  return account && !isLocal(account) ? `${name} · ${calledName(index, who)}` : name;
}

export function pathName(index: PlanIndex, place: string): string {
  const steps: string[] = [];
  for (let here: string | null | undefined = place; here && steps.length < 100; here = index.places.get(here)?.parent) {
    steps.unshift(index.places.get(here)?.name ?? here);
  }
  return steps.join(" / ");
}

/** The folder of a place on the appliance. top: in which the pools lie there. */
export function hostPath(index: PlanIndex, top: string, place: string): string {
  return `${top.replace(/\/+$/, "")}/${pathName(index, place).split(" / ").join("/")}`;
}

/** The places below one, depth first, itself not included. */
export function below(index: PlanIndex, place: string): Place[] {
  return (index.children.get(place) ?? []).flatMap((child) => [child, ...below(index, child.id)]);
}

/** Why an account gets nothing, in a word; empty where it may sign in. */
export function shutWord(user: User, index: PlanIndex): string {
  return user.gone ? "gone" : !index.inactive.has(user.id) ? "" : user.enabled ? "expired" : "disabled";
}
