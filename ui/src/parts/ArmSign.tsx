import type { Level } from "../api/client";
import { levels } from "../api/facts.json";

const ARMS: Record<Level, string> = { RW: "M6 13V1.5", RO: "M6 11L15 4.5", PT: "M6 11H9.5M13 11H16.5", NA: "M6 11H17" };
export const WORDS: Record<Level, string> = levels;

/** A gate's arm: up for read-write, half up for read-only, broken for pass through, down for no access. */
export function ArmSign({ level }: { level: Level }) {
  return (
    <svg className="arm" viewBox="0 0 22 18" aria-hidden="true">
      <path d={`M6 17V11.5M5 11a1 1 0 1 0 2 0a1 1 0 1 0 -2 0${ARMS[level]}`} />
    </svg>
  );
}

export function LevelTag({ level, long = false }: { level: Level; long?: boolean }) {
  return (
    <span className={`tag ${level}`} title={WORDS[level]}>
      {long ? WORDS[level] : level}
    </span>
  );
}

/** A level's change, as in a list of what an edit did. */
export function LevelChange({ before, after }: { before: Level; after: Level }) {
  return (
    <span style={{ whiteSpace: "nowrap" }}>
      <LevelTag level={before} /> → <LevelTag level={after} />
    </span>
  );
}
