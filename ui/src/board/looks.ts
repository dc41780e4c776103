import type { Level, Place, Schemas } from "../api/client";
import { WORDS } from "../parts/ArmSign";
import type { Look } from "../parts/Grid";
import type { Columns } from "../plan/columns";
import { whoName, type PlanIndex } from "../plan/index";
import type { BoardRow } from "./rows";

export type View = "grants" | "effect" | "off" | "settled";
export const VIEWS: View[] = ["grants", "effect", "off", "settled"];

const SOURCES: Record<string, string> = { "-": "", o: "", g: "group", a: "all", A: "admin", x: "off", w: "above", l: "list", i: "share" };
const SOURCE_WORDS: Record<string, string> = {
  "-": "not set",
  o: "own grant",
  g: "from a group",
  a: "from the grant to all",
  A: "as administrator",
  x: "the account is disabled or expired",
  w: "stopped at a folder above",
  l: "from the storage list",
  i: "by the share and its hosts",
};
export const STATES: Record<string, string> = {
  "=": "as granted",
  s: "settled by the rule",
  ".": "nothing is granted",
  u: "no share leads there",
  "+": "more than granted",
  "<": "less than granted",
};

/** What the cells of the board are drawn by. Sets and keys of maps are of `who|place`, where nothing else is said. */
export interface Shown {
  view: View;
  /** Only the cells of a list are shown. */
  listed: boolean;
  /** Only these cells are shown, where they are filtered. */
  only?: ReadonlySet<string> | null;
  index: PlanIndex;
  store: Columns;
  /** By place, then by who. */
  grants: ReadonlyMap<string, ReadonlyMap<string, Level>>;
  camesDown: ReadonlyMap<string, ReadonlyMap<string, Schemas["CameOut"]>>;
  cells: ReadonlyMap<string, Schemas["OffCell"]>;
  flashing: ReadonlySet<string>;
  /** How many changes there were: each flashes anew. */
  serial: number;
  wouldChange: ReadonlyMap<string, Level>;
  broken: ReadonlySet<string>;
  fresh: ReadonlySet<string>;
}

/** How a cell of the board looks, and what a screen reader says of it. */
export function cellLook(shown: Shown, { who, kind }: BoardRow, place: Place): Look {
  const { view, listed, index, store, grants, camesDown, cells, flashing, serial, wouldChange, broken, fresh } = shown;
  const here = `${who}|${place.id}`;
  const marks = `${flashing.has(here) ? ` flash s${serial % 2}` : ""}${wouldChange.has(here) ? " would" : ""}${view !== "grants" && broken.has(here) ? " broken" : ""}${fresh.has(here) ? " fresh" : ""}`;
  const name = `${whoName(index, who)} on ${place.name}`;
  if (shown.only && !shown.only.has(here)) return { cls: `aside${marks}`, label: `${name}: left out by the filter` };
  if (view === "grants" || kind === "everyone") {
    const level = grants.get(place.id)?.get(who);
    const came = level ? undefined : camesDown.get(place.id)?.get(who);
    if (came)
      return {
        cls: `came ${came.level}${marks}`,
        level: came.level,
        word: "above",
        label: `${name}: ${WORDS[came.level]}, comes down from ${index.places.get(came.said_on)?.name}`,
      };
    return level
      ? { cls: level + marks, level, label: `${name}: granted ${WORDS[level]}` }
      : { cls: `none${marks}`, label: `${name}: not set` };
  }
  const guest = cells.get(`guest|${place.id}`);
  const cell =
    kind !== "guest"
      ? store.cell(place.id, index.number.get(who))
      : {
          level: guest?.gets ?? ("NA" as const),
          source: "i",
          granted: guest?.granted ?? ("NA" as const),
          state: !guest ? "." : view === "settled" ? "s" : guest.gets > guest.granted ? "+" : "<",
        };
  if (!cell) return { cls: "mark far waiting", mark: "…", label: `${name}: being asked` };
  const { level, source, granted, state } = cell;
  const told = "+<u".includes(state)
    ? `${state === "u" ? "" : `${WORDS[level]}, `}${STATES[state]}, granted ${WORDS[granted]}`
    : state === "." && level === "NA"
      ? STATES[state]
      : `${WORDS[level]}, ${SOURCE_WORDS[source]}${state === "s" ? `, ${STATES[state]}` : ""}`;
  const label = `${name}: ${told}${broken.has(here) ? ", a promise is broken" : ""}${fresh.has(here) ? ", not on the appliance yet" : ""}`;
  if (listed && !cells.has(here)) return { cls: marks, label };
  if (state === "u") return { cls: `mark unshared${marks}`, mark: "–", word: granted === "NA" ? "" : granted, label };
  if (state === "." && level === "NA") return { cls: `none${marks}`, label };
  if (state === "+" || state === "<")
    return { cls: `${level} ${state === "+" ? "more" : "less"}${marks}`, level, word: `grant ${granted}`, label };
  const soft = source === "x" ? " soft" : "";
  return {
    cls: `${level}${soft}${marks}`,
    level,
    word: kind === "group" && grants.get(place.id)?.has(who) ? "" : SOURCES[source],
    label,
  };
}
