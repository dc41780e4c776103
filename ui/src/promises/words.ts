import type { Edit, KeepingOut, Level, Promised } from "../api/client";
import { least, levels } from "../api/facts.json";

export const SEVERITIES = [
  ["serious", "Serious"],
  ["consider", "To consider"],
  ["note", "Notes"],
] as const;
export const ACTS: Promised["act"][] = ["see", "read", "write"];
const LEAST = least as Record<Promised["act"], Level>;
const ORDER = Object.keys(levels) as Level[]; // the lowest first

/** The levels with which a promise holds: at least, at most. */
export function range(promise: Promised): [Level, Level] {
  return promise.must ? [LEAST[promise.act], "RW"] : ["NA", ORDER[ORDER.indexOf(LEAST[promise.act]) - 1]!];
}

/** What can be promised of somebody with a level, the most telling first. */
export function promisable(level: Level): { must: boolean; act: Promised["act"] }[] {
  if (level === "RW")
    return [
      { must: true, act: "write" },
      { must: true, act: "read" },
    ];
  if (level === "RO")
    return [
      { must: true, act: "read" },
      { must: false, act: "write" },
    ];
  return [
    { must: false, act: "read" },
    { must: false, act: "write" },
  ];
}

export const ANYTHING = [true, false].flatMap((must) => (["write", "read", "see"] as const).map((act) => ({ must, act })));

export const promiseWords = ({ must, act }: { must: boolean; act: Promised["act"] }) =>
  `${must ? "must be able to" : "must not be able to"} ${act}`;

/** The edit that promises something; the same promise made twice is one. */
export function promiseEdit(
  who: string,
  place: string,
  { must, act }: { must: boolean; act: Promised["act"] },
  over: Promised["protocol"] = null,
): Edit {
  const id = ["promise", who, must ? "must" : "never", act, place, ...(over ? [over] : [])].join(" ");
  return { op: "put-promise", promise: { id, who, must, act, place, except_for: [], protocol: over, note: "" } };
}

/** Cells for which a promise is broken, as "who|place". */
export function brokenCells(keepings: KeepingOut[]): Set<string> {
  return new Set(keepings.flatMap((keeping) => keeping.breaches.map((breach) => `${breach.subject}|${keeping.promise.place}`)));
}
