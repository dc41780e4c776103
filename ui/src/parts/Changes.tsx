import type { Changed } from "../api/client";
import { pathName, whoName, type PlanIndex } from "../plan/index";
import { LevelChange } from "./ArmSign";
import { few, plural } from "./plural";

type CellChange = Changed["cells"][number];
const NAMED = 12; // of those to whom the same happens

/** The cells that come out differently, by person or by place, whichever says it in fewer lines; who fares alike stands in one line. */
export function Changes({
  changed,
  index,
  names,
  most = 40,
}: {
  changed: Changed;
  index: PlanIndex;
  names?: Record<string, string>;
  most?: number;
}) {
  if (changed.total === 0) return <p className="muted">Nothing comes out differently for anybody.</p>;
  const person = (who: string) => names?.[who] ?? whoName(index, who);
  const place = (id: string) => index.places.get(id)?.name ?? id;
  const byPlace = changed.places < changed.people;
  const groups = [...grouped(changed.cells, (cell) => (byPlace ? cell.place : cell.subject))];
  const shown = groups.slice(0, most);
  const rest = changed.total - shown.reduce((sum, [, cells]) => sum + cells.length, 0);
  return (
    <>
      <ul className="alike" tabIndex={0} aria-label="What comes out differently">
        {shown.map(([key, cells]) => (
          <li key={key}>
            <b title={byPlace ? pathName(index, key) : undefined}>{byPlace ? place(key) : person(key)}</b>
            {[...grouped(cells, (cell) => `${cell.before} ${cell.after} ${cell.over ?? ""}`)].map(([change, alike]) => {
              const others = alike.map((cell) => (byPlace ? person(cell.subject) : place(cell.place)));
              return (
                <div key={change}>
                  <LevelChange before={alike[0]!.before} after={alike[0]!.after} />
                  <span title={others.join(", ")}>
                    {few(others, NAMED)}
                    {alike[0]!.over && ` (over ${alike[0]!.over.toUpperCase()} alone)`}
                  </span>
                </div>
              );
            })}
          </li>
        ))}
      </ul>
      {rest > 0 && (
        <p className="muted">
          … and {rest.toLocaleString()} more {rest === 1 ? "cell" : "cells"}.
        </p>
      )}
    </>
  );
}

function grouped(cells: CellChange[], by: (cell: CellChange) => string): Map<string, CellChange[]> {
  const found = new Map<string, CellChange[]>();
  for (const cell of cells) {
    const key = by(cell);
    const group = found.get(key);
    if (group) group.push(cell);
    else found.set(key, [cell]);
  }
  return found;
}

export function cellsWords(changed: Changed): string {
  if (changed.total === 0) return "nothing else comes out differently";
  return `${plural(changed.total, "cell")} of ${plural(changed.people, "person", "people")}`;
}
