import { App, Button, Input, Segmented } from "antd";
import { useCallback, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { api, ask, message, type Edit, type Place, type Schemas } from "../api/client";
import { Grid, type GridHandle, type Look, type Spot } from "../parts/Grid";
import { plural } from "../parts/plural";
import { Side } from "../parts/Side";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useNeeds } from "../plan/queries";
import { Suggested } from "./Suggested";
import "./needs.css";

type Wish = Schemas["Need"]["wish"];
const KEYS: Record<string, Wish | null> = { c: "change", r: "read", x: "must not", "?": "any", Backspace: null, Delete: null };
const SIGN: Record<Wish, { cls: string; mark: string; words: string }> = {
  change: { cls: "RW need", mark: "change", words: "needs to change" },
  read: { cls: "RO need", mark: "read", words: "needs to read" },
  "must not": { cls: "NA need never", mark: "must not", words: "must not get to it" },
  any: { cls: "need any", mark: "any", words: "it does not matter" },
};
const PAINTS: { value: Wish | "select" | "clear"; label: string }[] = [
  { value: "select", label: "select" },
  { value: "change", label: "change" },
  { value: "read", label: "read" },
  { value: "must not", label: "must not" },
  { value: "any", label: "any" },
  { value: "clear", label: "nothing" },
];

/** The id of the one need that somebody has in a place. */
const needId = (who: string, place: string) => `${who} @ ${place}`;

/** What people should be able to do, whatever the plan gives them: a row for each person and group, a column for each place. */
export default function Needs() {
  const { id, outline, index, canEdit, edit } = usePlan();
  const { message: toast } = App.useApp();
  const [at, setAt] = useState<Spot>({ row: 0, col: 0 });
  const [from, setFrom] = useState<Spot>({ row: 0, col: 0 });
  const [text, setText] = useState("");
  const [paint, setPaint] = useState<Wish | "select" | "clear">("select");
  const [filling, setFilling] = useState(false);
  const grid = useRef<GridHandle>(null);
  const stand = useNeeds().data;

  const columns = useMemo(() => {
    const found: Place[] = [];
    const walk = (parent: string | null) => {
      for (const place of index.children.get(parent) ?? []) {
        if (!place.folder_of) found.push(place);
        walk(place.id);
      }
    };
    walk(null);
    return found;
  }, [index]);
  const rows = useMemo(() => {
    const wanted = text.trim().toLowerCase();
    const groups = index.groupsByName.map((one) => ({ id: one.id, name: one.name, kind: "group" as const }));
    const people = index.usersByName.map((one) => ({ id: one.id, name: whoName(index, one.id), kind: "person" as const }));
    return [...people, ...groups].filter((one) => one.name.toLowerCase().includes(wanted));
  }, [index, text]);
  const said = useMemo(() => new Map(outline.needs.map((need) => [need.id, need])), [outline.needs]);
  const missed = useMemo(() => new Map(stand?.missed.map((one) => [`${one.user} ${one.place}`, one])), [stand]);

  const last = { row: Math.max(0, rows.length - 1), col: Math.max(0, columns.length - 1) };
  const spot = { row: Math.min(at.row, last.row), col: Math.min(at.col, last.col) };
  const anchor = { row: Math.min(from.row, last.row), col: Math.min(from.col, last.col) };

  const set = (wish: Wish | null, one: Spot, other: Spot) => {
    if (!canEdit) {
      toast.info("This account may only read. Nothing was changed.");
      return;
    }
    const edits: Edit[] = [];
    for (let row = Math.min(one.row, other.row); row <= Math.max(one.row, other.row); row++)
      for (let col = Math.min(one.col, other.col); col <= Math.max(one.col, other.col); col++) {
        const [who, place] = [rows[row]?.id, columns[col]?.id];
        if (!who || !place) continue;
        const need = needId(who, place);
        const before = said.get(need);
        if (wish === null) {
          if (before) edits.push({ op: "remove-need", need });
        } else if (before?.wish !== wish)
          edits.push({ op: "put-need", need: { note: "", asked_by: "", ...before, id: need, who, place, wish } });
      }
    if (edits.length > 0) void edit(edits);
  };
  const onKey = (event: KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
    if (key in KEYS) {
      event.preventDefault();
      set(KEYS[key] ?? null, spot, anchor);
    }
  };
  const fill = async () => {
    setFilling(true);
    try {
      const edits = await ask(api.GET("/api/v1/plans/{plan}/needs/today", { params: { path: { plan: id } } }));
      if (edits.length === 0) toast.info("Everything that people get today is needed already. Nothing was changed.");
      else await edit(edits);
    } catch (error) {
      toast.error(message(error));
    } finally {
      setFilling(false);
    }
  };

  const look = useCallback(
    (row: number, col: number): Look => {
      const [who, place] = [rows[row]!, columns[col]!];
      const where = `${who.name} on ${pathName(index, place.id)}`;
      const off = missed.get(`${who.id} ${place.id}`);
      const frame = off ? (off.is === "lacks" ? " less" : " more") : "";
      const gets = off ? `, gets ${off.gets}` : "";
      const word = off ? `gets ${off.gets}` : undefined;
      const own = said.get(needId(who.id, place.id));
      if (own)
        return { cls: SIGN[own.wish].cls + frame, mark: SIGN[own.wish].mark, word, label: `${where}: ${SIGN[own.wish].words}${gets}` };
      const through =
        who.kind === "person" ? (index.groupsOf.get(who.id) ?? []).flatMap((group) => said.get(needId(group, place.id)) ?? []) : [];
      const wish = (["must not", "change", "read", "any"] as const).find((one) => through.some((need) => need.wish === one));
      if (wish)
        return {
          cls: `${SIGN[wish].cls} far${frame}`,
          mark: SIGN[wish].mark,
          word: word ?? "group",
          label: `${where}: ${SIGN[wish].words}, as all of a group${gets}`,
        };
      return { cls: `none${frame}`, word, label: `${where}: nothing is needed${gets}` };
    },
    [rows, columns, said, missed, index],
  );
  const columnKey = useCallback((col: number) => columns[col]?.id ?? String(col), [columns]);
  const rowHead = useCallback((row: number) => <span className="n">{rows[row]!.name}</span>, [rows]);
  const counts = useMemo(() => {
    const of = (what: string) => stand?.missed.filter((one) => one.is === what).length ?? 0;
    return { lacks: of("lacks"), more: of("more"), never: of("must not") };
  }, [stand]);

  return (
    <>
      <div className="work">
        <div className="tools">
          <Input
            size="small"
            allowClear
            placeholder="Only names with …"
            aria-label="Only names with"
            value={text}
            onChange={(event) => setText(event.target.value)}
            style={{ width: 170 }}
          />
          {canEdit && (
            <Segmented
              size="small"
              aria-label="What a drag over cells does"
              value={paint}
              onChange={(value) => setPaint(value)}
              options={PAINTS}
            />
          )}
          <span className="spread" />
          {canEdit && (
            <Button size="small" loading={filling} onClick={() => void fill()}>
              From what people get today
            </Button>
          )}
        </div>
        <div className="needs-stand muted" role="status">
          {outline.needs.length === 0
            ? "Nothing is needed yet: choose cells and press c for change, r for read, x for must not, ? for any; or import a table of needs."
            : `${plural(stand?.cells ?? 0, "cell")} needed · ${counts.lacks.toLocaleString()} needed and not had · ${counts.more.toLocaleString()} had and not needed · ${counts.never.toLocaleString()} must not and can read`}
        </div>
        {rows.length === 0 || columns.length === 0 ? (
          <div className="empty">
            <h2>{text ? `No name has “${text}” in it` : "Needs are those of people in places"}</h2>
            <p className="muted">
              {text ? "" : "Add people and places first, or import a table of needs: unknown names can be made by it."}
            </p>
          </div>
        ) : (
          <Grid
            handle={grid}
            label="Needs"
            rows={rows.length}
            columns={columns.length}
            rowHeight={29}
            columnWidth={62}
            headHeight={118}
            rowHeadWidth={190}
            rowKey={(row) => rows[row]?.id ?? String(row)}
            columnKey={columnKey}
            rowClass={(row) => (rows[row]!.kind === "group" ? "group" : "person flat")}
            rowHead={rowHead}
            corner={
              <span>
                {plural(index.usersByName.length, "person", "people")} · {plural(columns.length, "place")}
                <br />
                <small>c change · r read · x must not · ? any</small>
              </span>
            }
            heads={(cols, width) =>
              cols.map(({ index: number, start }) => (
                <div
                  key={columns[number]!.id}
                  className={`head ${number === spot.col ? "lit" : ""}`}
                  role="columnheader"
                  aria-colindex={number + 2}
                  title={pathName(index, columns[number]!.id)}
                  style={{ left: start, width, top: 0, height: 118 }}
                >
                  <span className="slant">{columns[number]!.name}</span>
                </div>
              ))
            }
            look={look}
            at={spot}
            from={anchor}
            onMove={(next, nextFrom) => {
              setAt(next);
              setFrom(nextFrom);
            }}
            onKey={onKey}
            onPainted={paint === "select" ? undefined : (next, nextFrom) => set(paint === "clear" ? null : paint, next, nextFrom)}
          />
        )}
      </div>
      <Side label="Groups from needs">
        <Suggested />
      </Side>
    </>
  );
}
