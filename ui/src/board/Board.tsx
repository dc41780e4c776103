import { App, Button, Segmented, Select } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState, useSyncExternalStore, type ClipboardEvent, type KeyboardEvent } from "react";
import { useSearchParams } from "react-router";
import { message, type Edit, type Level } from "../api/client";
import { Grid, type GridHandle, type Spot } from "../parts/Grid";
import { Keys } from "../parts/Keys";
import { Side } from "../parts/Side";
import { Columns } from "../plan/columns";
import { whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useSince, useStanding, useStands } from "../plan/queries";
import { brokenCells, promisable, promiseEdit } from "../promises/words";
import { Empty } from "./Empty";
import { blockEdits, parseBlock } from "./block";
import { filterOf } from "./filter";
import { changeOf, FilterBar } from "./FilterBar";
import { useCursor } from "./useCursor";
import { Bands, Heads, RowHead } from "./Heads";
import { cellLook, VIEWS } from "./looks";
import { MoveBetween, type Dragged } from "./MoveBetween";
import { RuleChooser } from "./RuleChooser";
import { Said, type Would } from "./Said";
import { useFolds } from "./useFolds";
import { cellsOf, NO_LIST, useShown } from "./useShown";
import { WhyPanel } from "./WhyPanel";

const FETCH_AHEAD = 2_000_000; // cells that are fetched before they are looked at, so that no scrolling can outrun them
const SEEN = [
  { value: "any", label: "any share" },
  { value: "smb", label: "over SMB" },
  { value: "nfs", label: "over NFS" },
  { value: "storage", label: "grants and storage alone" },
];
const PAINTS = [
  { value: "off", label: "select" },
  { value: "RW", label: "RW" },
  { value: "RO", label: "RO" },
  { value: "NA", label: "NA" },
  { value: "none", label: "not set" },
];

const NO_FILTER = filterOf(new URLSearchParams());

export default function Board() {
  const { id, outline, index, columns: out, canEdit, last, edit, whatIf } = usePlan();
  const { message: toast } = App.useApp();
  const [params] = useSearchParams();
  const view = VIEWS.find((one) => one === params.get("view")) ?? "effect";
  const listed = view === "off" || view === "settled";
  const over = view === "effect" ? (["smb", "nfs", "storage"] as const).find((one) => one === params.get("over")) : undefined;
  const revision = useRef(outline.revision);
  revision.current = outline.revision;
  const store = useMemo(() => (over ? new Columns(id, () => revision.current, over) : out), [id, over, out]);
  useEffect(() => {
    if (store !== out) store.outdate();
  }, [store, out, outline]);
  const peopleOnly = params.get("rows") === "people";
  const [foldedRows, foldRow, unfoldRows] = useFolds(`rows ${id}`);
  const personal = useMemo(() => new Set(outline.places.filter((one) => one.personal_folders).map((one) => one.id)), [outline.places]);
  const [foldedColumns, foldColumn, unfoldColumns] = useFolds(`columns ${id}`, personal);
  const [paint, setPaint] = useState("off");
  const [keysOpen, setKeysOpen] = useState(false);
  const [moving, setMoving] = useState<Dragged | null>(null);
  const [would, setWould] = useState<Would | null>(null);
  const grid = useRef<GridHandle>(null);
  const version = useSyncExternalStore(store.subscribe, store.getVersion);

  const camesDown = useMemo(
    () => new Map(Object.entries(outline.standing).map(([place, stands]) => [place, new Map(stands.came.map((line) => [line.who, line]))])),
    [outline.standing],
  );
  const stands = useStands(view === "settled" ? "settled" : "off");
  const list = listed ? stands.data?.cells : undefined;
  const chosen = useMemo(() => (list ? cellsOf(list) : NO_LIST), [list]);

  const [filterOpen, setFilterOpen] = useState(false);
  const { filter, filtered, rows, columns, ofRows, ofColumns, only, differing } = useShown(
    { listed, chosen, peopleOnly, foldedRows, foldedColumns },
    store,
    version,
  );
  const grants = useMemo(() => {
    const found = new Map<string, Map<string, Level>>();
    for (const [place, lines] of Object.entries(outline.grants)) found.set(place, new Map(lines.map((line) => [line.who, line.level])));
    return found;
  }, [outline.grants]);
  const unfold = useCallback((what: "rows" | "columns") => (what === "rows" ? unfoldRows() : unfoldColumns()), [unfoldRows, unfoldColumns]);
  // With no cell named, begin where somebody does not get what is granted.
  const { spot, anchor, move, change, forget } = useCursor(rows, columns, grid, stands.data?.cells[0], unfold);
  const here = { row: rows[spot.row], column: columns[spot.col] };

  const needed = useCallback(
    (first: number, lastColumn: number) =>
      store.need(columns.slice(Math.max(0, first - 8), lastColumn + 9).map((column) => column.place.id)),
    [columns, store],
  );
  const seen = useRef({ first: 0, last: 40 });
  const onScrolled = useCallback(
    (first: number, lastColumn: number) => {
      seen.current = { first, last: lastColumn };
      needed(first, lastColumn);
    },
    [needed],
  );
  const all = columns.length * (outline.users.length + outline.groups.length) <= FETCH_AHEAD;
  useEffect(() => {
    needed(seen.current.first, seen.current.last);
    if (!all) return;
    const later = window.setTimeout(() => store.need(columns.map((column) => column.place.id)), 300);
    return () => window.clearTimeout(later);
  }, [needed, version, all, columns, store]);

  const editsFor = useCallback(
    (a: Spot, b: Spot, level: (row: number, col: number) => Level | null | undefined) => blockEdits(rows, columns, grants, a, b, level),
    [rows, columns, grants],
  );

  const asked = useRef(0);
  const set = useCallback(
    (level: Level | null, a: Spot = spot, b: Spot = anchor) => {
      if (!canEdit) {
        toast.info("This account may only read. Nothing was changed.");
        return;
      }
      asked.current++; // what was pointed at is done now: no answer to it is waited for
      setWould(null);
      const edits = editsFor(a, b, () => level);
      if (edits.length > 0) void edit(edits);
    },
    [canEdit, editsFor, edit, toast, spot, anchor],
  );

  const preview = useCallback(
    (level: Level | null | undefined) => {
      const serial = ++asked.current;
      if (level === undefined) {
        setWould(null);
        return;
      }
      const edits = editsFor(spot, anchor, () => level);
      if (edits.length === 0) setWould(null);
      else
        whatIf(edits).then(
          (answer) => {
            if (serial === asked.current) setWould({ answer, level });
          },
          () => undefined,
        );
    },
    [editsFor, spot, anchor, whatIf],
  );

  const onKey = (event: KeyboardEvent) => {
    const key = event.key.toLowerCase();
    const control = event.ctrlKey || event.metaKey;
    const levels: Record<string, Level | null> = { w: "RW", r: "RO", n: "NA", backspace: null, delete: null };
    if (!control && key in levels) {
      event.preventDefault();
      if (event.altKey) preview(levels[key]);
      else set(levels[key] ?? null);
    } else if (event.key === "Enter") {
      event.preventDefault();
      document.querySelector<HTMLElement>(".side h2")?.focus();
    } else if (event.key === "?") {
      setKeysOpen(true);
    } else if (event.key === "Escape") {
      setWould(null);
      move(spot, spot);
      setPaint("off");
    } else if (event.key === " ") {
      event.preventDefault();
      if (event.shiftKey && here.column?.folds) foldColumn(here.column.place.id);
      else if (!event.shiftKey && here.row?.kind === "group") foldRow(here.row.who);
    }
  };

  const levelAt = (row: number, col: number): Level | null => {
    const [who, place] = [rows[row]!.who, columns[col]!.place.id];
    if (view === "grants" || who === "everyone") return grants.get(place)?.get(who) ?? null;
    return store.cell(place, index.number.get(who))?.level ?? null;
  };

  const onCopy = (event: ClipboardEvent) => {
    event.preventDefault();
    const lines: string[] = [];
    for (let row = Math.min(spot.row, anchor.row); row <= Math.max(spot.row, anchor.row); row++) {
      const cells: string[] = [];
      for (let col = Math.min(spot.col, anchor.col); col <= Math.max(spot.col, anchor.col); col++) cells.push(levelAt(row, col) ?? "");
      lines.push(cells.join("\t"));
    }
    event.clipboardData.setData("text/plain", lines.join("\n"));
    toast.success(`Copied ${lines.length} × ${Math.abs(spot.col - anchor.col) + 1} cells${view === "grants" ? "" : ", as they come out"}`);
  };

  const onPaste = (event: ClipboardEvent) => {
    event.preventDefault();
    const parsed = parseBlock(event.clipboardData.getData("text/plain"));
    if ("trouble" in parsed) {
      toast.error(parsed.trouble, 6);
      return;
    }
    if (!canEdit) return;
    const { block } = parsed;
    const [height, width] = [block.length, Math.max(...block.map((line) => line.length))];
    const corner = { row: Math.min(spot.row, anchor.row), col: Math.min(spot.col, anchor.col) };
    const chosen = { row: Math.max(spot.row, anchor.row), col: Math.max(spot.col, anchor.col) };
    const end = { row: Math.max(chosen.row, corner.row + height - 1), col: Math.max(chosen.col, corner.col + width - 1) };
    if (end.row >= rows.length || end.col >= columns.length)
      toast.warning("What was copied is larger than what is left of the board; the rest was left out.");
    const pasted = (row: number, col: number) => block[(row - corner.row) % height]?.[(col - corner.col) % width];
    const edits = editsFor(corner, end, pasted);
    if (edits.length > 0) void edit(edits);
  };

  const onPainted = (a: Spot, b: Spot) => {
    if (paint !== "off") set(paint === "none" ? null : (paint as Level), a, b);
  };

  /** One promise for each cell of the block, of what comes out there now. */
  const promiseBlock = () => {
    const edits: Edit[] = [];
    for (let row = Math.min(spot.row, anchor.row); row <= Math.max(spot.row, anchor.row); row++) {
      for (let col = Math.min(spot.col, anchor.col); col <= Math.max(spot.col, anchor.col); col++) {
        const [who, level] = [rows[row]!.who, levelAt(row, col)];
        if (who !== "everyone" && who !== "guest" && level) edits.push(promiseEdit(who, columns[col]!.place.id, promisable(level)[0]!));
      }
    }
    if (edits.length > 0) void edit(edits);
  };

  const flashing = useMemo(() => new Set((last?.changed.cells ?? []).map((cell) => `${cell.subject}|${cell.place}`)), [last]);
  const agreed = useStanding().data;
  const since = useSince().data;
  const fresh = useMemo(() => new Set(since?.changed.cells.map((cell) => `${cell.subject}|${cell.place}`)), [since]);
  const broken = useMemo(() => brokenCells(agreed?.promises ?? []), [agreed]);
  const wouldChange = useMemo(
    () => new Map((would?.answer.changed.cells ?? []).map((cell) => [`${cell.subject}|${cell.place}`, cell.after])),
    [would],
  );

  // What rows draw by stays the same function until something of it changes: moving the cursor draws two rows, not all.
  const serial = last?.serial ?? 0;
  const look = useMemo(() => {
    void version; // cells come into the store by and by
    const cells = chosen.cells;
    const shown = {
      view,
      listed,
      only: only?.keys ?? null,
      index,
      store,
      grants,
      camesDown,
      cells,
      flashing,
      serial,
      wouldChange,
      broken,
      fresh,
    };
    return (row: number, col: number) => cellLook(shown, rows[row]!, columns[col]!.place);
  }, [rows, columns, index, view, listed, only, grants, camesDown, chosen, store, version, flashing, serial, wouldChange, broken, fresh]);
  const { baseline } = outline.target;
  const rowHead = useCallback(
    (row: number) => (
      <RowHead row={rows[row]!} index={index} baseline={baseline ?? null} onFold={foldRow} onDropped={canEdit ? setMoving : undefined} />
    ),
    [rows, index, baseline, foldRow, canEdit],
  );
  const rowName = useCallback((row: number) => whoName(index, rows[row]!.who), [rows, index]);
  const columnKey = useCallback((col: number) => columns[col]?.place.id ?? String(col), [columns]);

  if (outline.users.length + outline.groups.length === 0 || index.places.size === 0) {
    return <Empty />;
  }
  return (
    <>
      <div className="work">
        <div className="tools">
          <Segmented
            size="small"
            aria-label="View"
            value={view}
            onChange={(value) => {
              forget();
              change({ view: value, who: null, place: null });
            }}
            options={[
              { value: "grants", label: "Grants" },
              { value: "effect", label: "In effect" },
              { value: "off", label: `Not as granted ${stands.data ? (stands.data.more + stands.data.less).toLocaleString() : ""}` },
              ...(view === "settled" ? [{ value: "settled", label: "Settled" }] : []),
            ]}
          />
          <RuleChooser />
          {view === "effect" && outline.shares.length > 0 && (
            <Select
              aria-label="As seen over"
              title="What people get over any share, over one protocol, or by storage alone"
              size="small"
              popupMatchSelectWidth={false}
              value={over ?? "any"}
              options={SEEN}
              onChange={(value) => change({ over: value === "any" ? null : value })}
            />
          )}
          <span className="spread" />
          {canEdit && (
            <span className="row" title="What dragging over cells does">
              <Segmented size="small" aria-label="What dragging does" value={paint} onChange={setPaint} options={PAINTS} />
            </span>
          )}
          {!listed && (
            <Segmented
              size="small"
              aria-label="Rows"
              value={peopleOnly ? "people" : "groups"}
              onChange={(value) => change({ rows: value === "people" ? "people" : null })}
              options={[
                { value: "groups", label: "groups" },
                { value: "people", label: "people" },
              ]}
            />
          )}
          <Button
            size="small"
            aria-expanded={filterOpen || filtered > 0}
            type={filtered > 0 ? "primary" : "default"}
            onClick={() => setFilterOpen(!filterOpen)}
          >
            Filter{filtered > 0 ? ` ${filtered}` : ""}
          </Button>
          <Button size="small" onClick={() => setKeysOpen(true)} aria-label="Keys">
            ?
          </Button>
        </div>
        {(filterOpen || filtered > 0) && (
          <FilterBar
            filter={filter}
            onChange={(part) => change(changeOf(part))}
            onClose={() => {
              setFilterOpen(false);
              if (filtered > 0) change(changeOf(NO_FILTER));
            }}
          />
        )}
        <Said
          would={would}
          failed={store.failed}
          stands={stands.data}
          onSettled={() => change({ view: "settled", who: null, place: null })}
        />
        {stands.isError && <div className="trouble">{message(stands.error)}</div>}
        {listed && stands.data?.cells.length === 0 ? (
          <div className="empty">
            <h2>{view === "off" ? "Everybody gets what is granted" : "Nothing had to be settled"}</h2>
            <p className="muted">
              {view === "off"
                ? "For every person and place, what comes out over the shares is what is granted there."
                : "For every person and place, all grants that concern them say the same, so every rule gives the same board."}
            </p>
          </div>
        ) : rows.length === 0 || columns.length === 0 ? (
          <div className="empty">
            <h2>
              {only && only.keys.size === 0
                ? "There is no such cell"
                : differing
                  ? "They get the same everywhere"
                  : "Nothing is left by this filter"}
            </h2>
            <Button onClick={() => change(changeOf(NO_FILTER))}>Show all</Button>
          </div>
        ) : (
          <Grid
            handle={grid}
            label={view === "grants" ? "What is granted" : "What comes out"}
            rows={rows.length}
            columns={columns.length}
            rowKey={(row) => rows[row]?.key ?? String(row)}
            columnKey={columnKey}
            rowClass={(row) => {
              const one = rows[row]!;
              return one.kind === "person" ? (one.flat ? "person flat" : "person") : "group";
            }}
            rowHead={rowHead}
            rowName={rowName}
            corner={
              <span>
                {rows.length.toLocaleString()}
                {rows.length < ofRows && ` of ${ofRows.toLocaleString()}`} rows · {columns.length.toLocaleString()}
                {columns.length < ofColumns && ` of ${ofColumns.toLocaleString()}`} places
              </span>
            }
            heads={(cols, width) => <Heads columns={columns} cols={cols} width={width} lit={spot.col} onFold={foldColumn} />}
            headHeight={140}
            bands={(cols, width) => <Bands columns={columns} cols={cols} width={width} />}
            look={look}
            at={spot}
            from={anchor}
            onMove={move}
            onKey={onKey}
            onPainted={onPainted}
            onCopy={onCopy}
            onPaste={onPaste}
            onScrolled={onScrolled}
          />
        )}
      </div>
      <Side label="Why">
        {here.row && here.column ? (
          <>
            <WhyPanel
              key={`${here.row.who}|${here.column.place.id}`}
              over={over}
              who={here.row.who}
              place={here.column.place.id}
              onSet={(level) => set(level)}
              onWould={preview}
            />
            {(spot.row !== anchor.row || spot.col !== anchor.col) && (
              <p className="muted">
                {(Math.abs(spot.row - anchor.row) + 1) * (Math.abs(spot.col - anchor.col) + 1)} cells are selected; setting a level sets
                them all.
                {canEdit && view !== "grants" && (
                  <>
                    {" "}
                    <button className="plain link" onClick={promiseBlock}>
                      Promise that they stay so
                    </button>
                  </>
                )}
              </p>
            )}
          </>
        ) : (
          <p className="muted">Choose a cell to see why it comes out as it does.</p>
        )}
      </Side>
      <Keys
        open={keysOpen}
        onClose={() => {
          setKeysOpen(false);
          grid.current?.focus();
        }}
      />
      {moving && (
        <MoveBetween
          dragged={moving}
          onClose={() => {
            setMoving(null);
            grid.current?.focus();
          }}
        />
      )}
    </>
  );
}
