import type { Changed } from "../api/client";
import { pathName, whoName, type PlanIndex } from "../plan/index";
import { LevelChange } from "./ArmSign";
import { plural } from "./plural";

/** The cells that come out differently, as a list to read. */
export function Changes({ changed, index, names, most = 40 }: { changed: Changed; index: PlanIndex; names?: Record<string, string>; most?: number }) {
  if (changed.total === 0) return <p className="muted">Nothing comes out differently for anybody.</p>;
  return (
    <>
      <ul className="cells">
        {changed.cells.slice(0, most).map((cell) => (
          <li key={`${cell.subject}|${cell.place}`}>
            <span className="who" title={pathName(index, cell.place)}>
              {names?.[cell.subject] ?? whoName(index, cell.subject)} <span className="muted">on {index.places.get(cell.place)?.name ?? cell.place}</span>
            </span>
            <LevelChange before={cell.before} after={cell.after} />
          </li>
        ))}
      </ul>
      {changed.total > most && <p className="muted">… and {(changed.total - most).toLocaleString()} more.</p>}
    </>
  );
}

export function cellsWords(changed: Changed): string {
  if (changed.total === 0) return "nothing else comes out differently";
  return `${plural(changed.total, "cell")} of ${plural(changed.people, "person", "people")}`;
}
