import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { useSearchParams } from "react-router";
import { api, ask, type Outline, type Schemas } from "../api/client";
import type { Columns } from "../plan/columns";
import type { PlanIndex } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useNeeds, useSince } from "../plan/queries";
import { cellSet, filteredColumns, filteredRows, filterOf, filters, personal, sortedRows, type Cells, type Filter } from "./filter";
import { boardColumns, groupedRows, hasEveryone, peopleRows, poolsGranted, type BoardRow } from "./rows";

/** The cells of a list, where one is shown. */
export const cellsOf = (cells: readonly Schemas["OffCell"][]) => ({
  who: new Set(cells.map((cell) => cell.subject)),
  places: new Set(cells.map((cell) => cell.place)),
  cells: new Map(cells.map((cell) => [`${cell.subject}|${cell.place}`, cell])),
});
export const NO_LIST = cellsOf([]);
const GUESTS: BoardRow = { key: "guest", who: "guest", kind: "guest" };
const NOTHING_FOLDED: ReadonlySet<string> = new Set();

interface Asked {
  /** Only the cells of a list are shown: those in `chosen`. */
  listed: boolean;
  chosen: ReturnType<typeof cellsOf>;
  peopleOnly: boolean;
  foldedRows: ReadonlySet<string>;
  foldedColumns: ReadonlySet<string>;
}

/** The rows and columns of the board: of the view, then as the filter in the address leaves them. What is filtered is not folded. */
export function useShown({ listed, chosen, peopleOnly, foldedRows, foldedColumns }: Asked, store: Columns, version: number) {
  const { outline, index } = usePlan();
  const [params] = useSearchParams();
  const search = params.toString();
  const filter = useMemo(() => filterOf(new URLSearchParams(search)), [search]);
  const filtered = filters(filter);
  const only = useOnlyCells(filter, outline, index);
  const everyone = useMemo(() => hasEveryone(outline), [outline]);
  const unfolded = filtered > 0;
  const some = filter.people.length > 0;

  const cellsOnly = only !== null;
  const allRows = useMemo(() => {
    if (cellsOnly)
      return [...index.groupsByName.map((group): BoardRow => ({ key: group.id, who: group.id, kind: "group" })), ...peopleRows(index)];
    const all =
      peopleOnly || listed || some
        ? [...peopleRows(index), ...(chosen.who.has("guest") && listed ? [GUESTS] : [])]
        : groupedRows(index, everyone, unfolded ? NOTHING_FOLDED : foldedRows);
    return listed ? all.filter((row) => chosen.who.has(row.who)) : all;
  }, [index, everyone, foldedRows, peopleOnly, listed, chosen, some, unfolded, cellsOnly]);
  const sorting = filter.sort && index.places.has(filter.sort) ? version : -1; // as below: levels come by and by
  const rows = useMemo(() => {
    const found = filteredRows(allRows, index, filter);
    const some = only ? found.filter((row) => only.who.has(row.who)) : found;
    return sorting >= 0 ? sortedRows(some, (who) => store.cell(filter.sort, index.number.get(who))?.level) : some;
  }, [allRows, index, filter, only, store, sorting]);
  useEffect(() => {
    if (filter.sort && index.places.has(filter.sort)) store.need([filter.sort]);
  }, [filter.sort, index, store, version]);

  const grantedPools = poolsGranted(outline, index).join("|"); // as a word, which is the same after most edits
  const allColumns = useMemo(() => {
    const all = boardColumns(index, new Set(grantedPools.split("|")), listed || unfolded ? NOTHING_FOLDED : foldedColumns);
    return listed ? all.filter((column) => chosen.places.has(column.place.id)) : all;
  }, [index, grantedPools, foldedColumns, listed, chosen, unfolded]);
  const differing = filter.cells === "differ" && filter.people.length > 1;
  const levels = differing ? version : 0; // levels come into the store by and by, and count only where they are compared
  const columns = useMemo(() => {
    const found = filteredColumns(allColumns, index, filter).filter((column) => !only || only.places.has(column.place.id));
    if (!differing) return found;
    const level = (place: string, who: string) => store.cell(place, index.number.get(who))?.level;
    return levels >= 0 ? found.filter(({ place }) => new Set(filter.people.map((who) => level(place.id, who))).size > 1) : found;
  }, [allColumns, index, filter, only, differing, store, levels]);
  useEffect(() => {
    if (differing) store.need(allColumns.map((column) => column.place.id));
  }, [differing, allColumns, store, version]);

  return { filter, filtered, rows, columns, ofRows: allRows.length, ofColumns: allColumns.length, only, differing };
}

/** The cells that a filter leaves, where it is one of cells. */
function useOnlyCells(filter: Filter, outline: Outline, index: PlanIndex): Cells | null {
  const since = useSince().data;
  const needs = useNeeds(filter.cells === "needs").data;
  const version = filter.cells === "version" ? Number(filter.version) : -1;
  const compared = useQuery({
    queryKey: ["compare", outline.id, version, outline.revision],
    enabled: version >= 0 && version <= outline.revision,
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/compare", {
          params: { path: { plan: outline.id }, query: { older: version, newer: outline.revision } },
        }),
      ),
  });
  const mine = useQuery({
    queryKey: ["of-plan", outline.id, "mine", outline.revision],
    enabled: filter.cells === "mine",
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/mine", { params: { path: { plan: outline.id } } })),
  });
  return useMemo(() => {
    switch (filter.cells) {
      case "personal":
        return personal(outline, index);
      case "fresh":
        return cellSet(since?.changed.cells ?? []);
      case "mine":
        return cellSet(mine.data ?? []);
      case "needs":
        return cellSet(needs?.missed.map((one) => ({ subject: one.user, place: one.place })) ?? []);
      case "version":
        return cellSet(compared.data?.effect.cells ?? []);
      default:
        return null;
    }
  }, [filter.cells, outline, index, since, compared.data, mine.data, needs]);
}
