import type { Outline, User } from "../api/client";
import { isLocal, shownName, shutWord, sourceName, type PlanIndex } from "../plan/index";

export interface Row {
  id: string;
  name: string;
  detail: string;
  state: string;
  source: string;
  kind: "person" | "service" | "group";
}

const HOST = "the server’s own";

/** Which of them are shown; kept in the address. */
export const SHOWS = {
  all: "everybody and all groups",
  person: "people",
  service: "services",
  group: "groups",
  ungrouped: "people in no group",
  shut: "disabled or expired",
  ending: "ending within 30 days",
  unnumbered: "without a number",
  directory: "from a directory",
  host: "the server’s own",
  empty: "groups without members",
} as const;
export type Show = keyof typeof SHOWS;

export const isShow = (text: string | null): text is Show => text !== null && text in SHOWS;

/** People, services and groups as rows, those that are asked for. `within`: ids of those who are in the group that is looked at. */
export function rowsOf(
  outline: Outline,
  index: PlanIndex,
  show: Show,
  text: string,
  within: ReadonlySet<string> | null,
  today: Date,
): Row[] {
  const soon = new Date(today.getTime() + 30 * 24 * 3600 * 1000).toISOString().slice(0, 10);
  const user = (one: User): Row => ({
    id: one.id,
    name: shownName(one),
    detail: one.name,
    kind: one.kind ?? "person",
    source: one.of_host ? HOST : isLocal(one) ? "" : sourceName(index, one.id),
    state: one.of_host ? "" : shutWord(one, index),
  });
  const shut = new Set(outline.inactive);
  const wantedUser = (one: User): boolean => {
    switch (show) {
      case "all":
        return true;
      case "person":
      case "service":
        return (one.kind ?? "person") === show;
      case "ungrouped":
        return !one.of_host && (one.kind ?? "person") === "person" && !one.gone && !index.groupsOf.has(one.id);
      case "shut":
        return shut.has(one.id) && !one.of_host;
      case "ending":
        return !shut.has(one.id) && Boolean(one.expires) && one.expires! <= soon;
      case "unnumbered":
        return isLocal(one) && one.uid == null;
      case "directory":
        return !isLocal(one);
      case "host":
        return Boolean(one.of_host);
      case "group":
      case "empty":
        return false;
    }
  };
  const users = index.usersByName.filter(wantedUser).map(user);
  const groups = index.groupsByName
    .filter(
      (group) =>
        show === "all" ||
        show === "group" ||
        (show === "directory" && !isLocal(group)) ||
        (show === "host" && group.of_host) ||
        (show === "unnumbered" && isLocal(group) && group.gid == null) ||
        (show === "empty" && group.members.length === 0 && outline.target.baseline !== group.id),
    )
    .map((group): Row => ({
      id: group.id,
      name: group.name,
      detail: `${group.members.length} members`,
      kind: "group",
      source: group.of_host ? HOST : isLocal(group) ? "" : sourceName(index, group.id),
      state: group.gone ? "gone" : outline.target.baseline === group.id ? "baseline" : "",
    }));
  const wanted = text.trim().toLowerCase();
  return [...users.filter((one) => one.kind !== "service"), ...users.filter((one) => one.kind === "service"), ...groups].filter(
    (one) =>
      (!within || within.has(one.id)) &&
      (!wanted || `${one.name} ${one.source}\\${one.detail} ${one.state}`.toLowerCase().includes(wanted)),
  );
}
