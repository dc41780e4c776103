import { calledName, isLocal, pathName, shownName, shutWord, sourceName, whoName } from "../plan/index";
import type { PlanIndex } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { CARRIERS } from "../storage/Layers";
import { STATES } from "./looks";
import { dragging, dropping, type Dragged } from "./MoveBetween";
import type { BoardColumn, BoardRow } from "./rows";

interface InSight {
  columns: readonly BoardColumn[];
  cols: { index: number; start: number }[];
  width: number;
}

/** Which pool or dataset columns lie in. */
export function Bands({ columns, cols, width }: InSight) {
  const { index } = usePlan();
  const spans: { band: string; start: number; count: number; colindex: number }[] = [];
  for (const { index: number, start } of cols) {
    const band = columns[number]!.band;
    const open = spans.at(-1);
    if (open?.band === band) open.count++;
    else spans.push({ band, start, count: 1, colindex: number });
  }
  return spans.map(({ band, start, count, colindex }) => {
    const place = index.places.get(band)!;
    return (
      <div
        key={`${band} ${colindex}`}
        className="band"
        role="columnheader"
        aria-colindex={colindex + 2}
        aria-colspan={count}
        style={{ left: start, width: count * width }}
        title={pathName(index, band)}
      >
        {count > 1 && place.name} {place.parent && <small>{index.places.get(place.parent)?.name}</small>}
      </div>
    );
  });
}

/** Heads of columns: the place, what enforces grants there, whether anything comes down to it. */
export function Heads({ columns, cols, width, lit, onFold }: InSight & { lit: number; onFold: (place: string) => void }) {
  const { outline, index, columns: out } = usePlan();
  return cols.map(({ index: number, start }) => {
    const column = columns[number]!;
    const stands = outline.standing[column.place.id];
    const above = column.place.parent ? outline.standing[column.place.parent]?.style : null;
    // A rust-coloured bar: nothing comes down here. A thin line: it follows or adds to what comes down.
    const inheritance = !stands?.style || !above ? "" : column.place.inheritance_stops || above !== stands.style ? "cut" : "down";
    const unshared = out.cell(column.place.id, 0)?.state === "u";
    const carried = unshared
      ? `, ${STATES.u}`
      : stands?.style
        ? `, grants enforced by ${CARRIERS[stands.enforced_by]}${inheritance === "cut" ? ", inheritance stops here" : ""}`
        : "";
    return (
      <div
        key={column.place.id}
        className={`head tall ${column.depth === 1 ? "own" : ""} ${number === lit ? "lit" : ""}`}
        role="columnheader"
        aria-colindex={number + 2}
        style={{ left: start, width, top: 22, height: 118 }}
        title={`${column.place.kind} ${pathName(index, column.place.id)}${carried}`}
      >
        <span className="slant">
          {column.place.name}
          {column.folded && column.place.personal_folders && (
            <small> +{index.children.get(column.place.id)?.filter((one) => one.folder_of).length ?? 0} own</small>
          )}
        </span>
        {unshared ? (
          <small className="carrier">not shared</small>
        ) : (
          stands?.style && <small className="carrier">{stands.enforced_by === "storage" ? "list" : stands.enforced_by}</small>
        )}
        {inheritance && <span className={`inherits ${inheritance}`} />}
        {column.folds && (
          <button
            className="plain fold"
            tabIndex={-1}
            aria-label={`${column.folded ? "Unfold" : "Fold"} ${column.place.name}`}
            onClick={() => onFold(column.place.id)}
          >
            {column.folded ? "▸" : "◂"}
          </button>
        )}
      </div>
    );
  });
}

/** A row's head: a person, or a group to fold. */
export function RowHead({
  row,
  index,
  baseline,
  onFold,
  onDropped,
}: {
  row: BoardRow;
  index: PlanIndex;
  baseline: string | null;
  onFold: (group: string) => void;
  /** what is to be done when a person was dragged onto a group; none where nothing may be changed */
  onDropped?: (dragged: Dragged) => void;
}) {
  if (row.kind === "person") {
    const user = index.users.get(row.who)!;
    const remark = shutWord(user, index) || (user.kind === "service" ? "service" : "");
    return (
      <div className="rowname" {...(onDropped ? dragging(row) : {})}>
        <span className="n" title={calledName(index, row.who)}>
          {shownName(user)}
        </span>{" "}
        <small>{remark}</small>
        {!isLocal(user) && (
          <span className="source" title={`from ${sourceName(index, row.who)}`}>
            {sourceName(index, row.who)}
          </span>
        )}
      </div>
    );
  }
  const group = index.groups.get(row.who);
  const nested = group?.members.filter((member) => index.groups.has(member)).map((member) => index.groups.get(member)!.name) ?? [];
  const takes = onDropped && group && isLocal(group) && row.who !== baseline;
  return (
    <div className="rowname" {...(takes ? dropping(row.who, onDropped) : {})}>
      {row.people ? (
        <button
          className="plain"
          tabIndex={-1}
          aria-label={`${row.folded ? "Unfold" : "Fold"} ${group?.name}`}
          onClick={() => onFold(row.who)}
        >
          {row.folded ? "▸" : "▾"}
        </button>
      ) : (
        <span style={{ width: 10 }} />
      )}
      <span className="n">{whoName(index, row.who)}</span>
      <small style={{ fontWeight: 400 }}>
        {baseline === row.who ? "baseline" : nested.length > 0 ? nested.join(", ") : row.people !== undefined ? `· ${row.people}` : ""}
      </small>
    </div>
  );
}
