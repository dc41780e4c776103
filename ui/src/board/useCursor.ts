import { useCallback, useEffect, useMemo, useRef, useState, type RefObject } from "react";
import { useSearchParams } from "react-router";
import { changed } from "../parts/address";
import type { GridHandle, Spot } from "../parts/Grid";
import type { BoardColumn, BoardRow } from "./rows";

const WRITE_AFTER = 200; // milliseconds of standing still until the address names the cell

interface Cursor {
  /** the chosen cell, and the other corner of the chosen block */
  spot: Spot;
  anchor: Spot;
  move: (spot: Spot, anchor: Spot) => void;
  /** Change the address; null takes a part away. */
  change: (values: Record<string, string | null>) => void;
  /** Name no cell, so that the next view begins where it finds best. */
  forget: () => void;
}

/**
 * Where one is on the board. The address (?who=…&place=…) and the chosen cell follow each other: a link or the search
 * leads to a cell, and moving writes the address. `first`: where to begin when the address names none.
 */
export function useCursor(
  rows: BoardRow[],
  columns: BoardColumn[],
  grid: RefObject<GridHandle | null>,
  first: { subject: string; place: string } | undefined,
  unfold: (what: "rows" | "columns") => void,
): Cursor {
  const [params, setParams] = useSearchParams();
  const [at, setAt] = useState<Spot>({ row: 0, col: 0 });
  const [from, setFrom] = useState<Spot>({ row: 0, col: 0 });
  const inside = useCallback(
    (one: Spot): Spot => ({
      row: Math.max(0, Math.min(one.row, rows.length - 1)),
      col: Math.max(0, Math.min(one.col, columns.length - 1)),
    }),
    [rows.length, columns.length],
  );
  const spot = useMemo(() => inside(at), [inside, at]);
  const anchor = useMemo(() => inside(from), [inside, from]);

  const wanted = `${params.get("who") ?? ""}|${params.get("place") ?? ""}`;
  const known = useRef({ now: "|", all: new Set(["|"]) }); // addresses that lead nowhere new: followed already, or written here
  useEffect(() => {
    if (known.current.all.has(wanted)) {
      if (known.current.now !== wanted) known.current = { now: wanted, all: new Set([wanted]) };
      return;
    }
    const [who, place] = [params.get("who"), params.get("place")];
    const row = who ? rows.findIndex((one) => one.who === who) : spot.row;
    const col = place ? columns.findIndex((one) => one.place.id === place) : spot.col;
    if (row < 0) unfold("rows");
    if (col < 0) unfold("columns");
    if (row < 0 || col < 0) return;
    known.current = { now: wanted, all: new Set([wanted]) };
    setAt({ row, col });
    setFrom({ row, col });
    grid.current?.show({ row, col });
    grid.current?.focus();
  }, [wanted, params, rows, columns, spot.row, spot.col, grid, unfold]);

  const begun = useRef(wanted !== "|");
  useEffect(() => {
    if (begun.current || !first) return;
    const [row, col] = [rows.findIndex((one) => one.who === first.subject), columns.findIndex((one) => one.place.id === first.place)];
    if (row < 0 || col < 0) return;
    begun.current = true;
    setAt({ row, col });
    setFrom({ row, col });
  }, [first, rows, columns]);

  const address = useRef(setParams); // whoever asks later than it was drawn changes the address of now
  address.current = setParams;
  const change = useCallback(
    (values: Record<string, string | null>) => address.current((old) => changed(old, values), { replace: true }),
    [],
  );

  const writing = useRef<number | undefined>(undefined);
  useEffect(() => () => window.clearTimeout(writing.current), []);
  const move = useCallback(
    (next: Spot, nextAnchor: Spot) => {
      setAt(next);
      setFrom(nextAnchor);
      const [row, column] = [rows[next.row], columns[next.col]];
      window.clearTimeout(writing.current);
      if (!row || !column) return;
      const path = window.location.pathname;
      writing.current = window.setTimeout(() => {
        if (window.location.pathname !== path) return; // on the way to another station: this would lead back
        known.current.all.add(`${row.who}|${column.place.id}`);
        change({ who: row.who, place: column.place.id });
      }, WRITE_AFTER);
    },
    [rows, columns, change],
  );
  const forget = useCallback(() => {
    begun.current = false;
    known.current.all.add("|");
  }, []);
  return { spot, anchor, move, change, forget };
}
