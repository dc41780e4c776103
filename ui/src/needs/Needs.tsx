import { App, Button, Checkbox, Input, Segmented } from "antd";
import { lazy, Suspense, useCallback, useMemo, useRef, useState, type ClipboardEvent, type KeyboardEvent } from "react";
import { Link } from "react-router";
import { api, ask, message, type Edit, type Place } from "../api/client";
import { Grid, type GridHandle, type Look, type Spot } from "../parts/Grid";
import { plural } from "../parts/plural";
import { MenuButton } from "../parts/Menu";
import { ManyDialog } from "../parts/selection";
import { Side } from "../parts/Side";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useMemberships, useNeeds, useStanding } from "../plan/queries";
import { Here } from "./Here";
import { givenBy, type Found } from "./answers";
import { Suggested } from "./Suggested";
import { useAnswers } from "./useAnswers";
import { fromPromises, needOf, parseNeeds, promised, SIGN, wished, type Need, type Wish } from "./wishes";
import "./needs.css";

const TakeIn = lazy(() => import("../transfer/TakeIn"));
const Simplify = lazy(() => import("./Simplify"));

const KEYS: Record<string, Wish | null> = { c: "change", r: "read", x: "must not", "?": "any", Backspace: null, Delete: null };
const PAINTS: { value: Wish | "select" | "clear"; label: string }[] = [
  { value: "select", label: "select" },
  { value: "change", label: "change" },
  { value: "read", label: "read" },
  { value: "must not", label: "must not" },
  { value: "any", label: "any" },
  { value: "clear", label: "nothing" },
];

const BY: Record<string, string> = { "•": "by a grant of their own", "↓": "comes down from above" };

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
  const [dialog, setDialog] = useState<"promise" | "simplify" | null>(null);
  const [table, setTable] = useState<string | null>(null);
  const answers = useAnswers(id);
  const [picked, setPicked] = useState<Found | null>(null);
  const chosen = answers.found.find((one) => one === picked) ?? answers.found[0] ?? null;
  const stand = useNeeds().data;
  const there = useStanding().data;

  const [all, setAll] = useState(outline.needs.length === 0);
  const [before, setBefore] = useState<ReadonlySet<string>>(() => new Set(outline.needs.map((need) => need.place))); // no column goes while one works
  const spoken = useMemo(() => new Set([...before, ...outline.needs.map((need) => need.place)]), [before, outline.needs]);
  const columns = useMemo(() => {
    const found: Place[] = [];
    const walk = (parent: string | null) => {
      for (const place of index.children.get(parent) ?? []) {
        if (!place.folder_of) found.push(place);
        walk(place.id);
      }
    };
    walk(null);
    return found.filter((place) => all || spoken.size === 0 || spoken.has(place.id));
  }, [index, all, spoken]);
  const rows = useMemo(() => {
    const wanted = text.trim().toLowerCase();
    const groups = index.groupsByName.map((one) => ({ id: one.id, name: one.name, kind: "group" as const }));
    const people = index.usersByName.map((one) => ({ id: one.id, name: whoName(index, one.id), kind: "person" as const }));
    return [...people, ...groups].filter((one) => one.name.toLowerCase().includes(wanted));
  }, [index, text]);
  const said = useMemo(() => new Map(outline.needs.map((need) => [need.id, need])), [outline.needs]);
  const given = useMemo(() => (chosen && chosen.revision === outline.revision ? givenBy(chosen) : null), [chosen, outline.revision]);
  const beyond = useMemo(() => new Set(given ? chosen?.beyond.map((one) => `${one.user} ${one.place}`) : []), [given, chosen]);
  const short = useMemo(() => new Set(chosen?.misses.map((one) => `${one.user} ${one.place}`)), [chosen]);
  const far = useMemberships().data;
  const groupsOf = useCallback((who: string) => [...(index.groupsOf.get(who) ?? []), ...(far?.[who] ?? [])], [index, far]);
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
        if (who && place) edits.push(...wished(said, who, place, wish));
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
  const onPaste = (event: ClipboardEvent) => {
    event.preventDefault();
    const parsed = parseNeeds(event.clipboardData.getData("text/plain"));
    if ("trouble" in parsed) return void toast.error(parsed.trouble, 6);
    if (!canEdit) return void toast.info("This account may only read. Nothing was changed.");
    if ("table" in parsed) return setTable(parsed.table);
    const corner = { row: Math.min(spot.row, anchor.row), col: Math.min(spot.col, anchor.col) };
    const edits = parsed.block.flatMap((line, row) =>
      line.flatMap((wish, col) => {
        const [who, place] = [rows[corner.row + row]?.id, columns[corner.col + col]?.id];
        return who && place ? wished(said, who, place, wish) : [];
      }),
    );
    if (corner.row + parsed.block.length > rows.length || parsed.block.some((line) => corner.col + line.length > columns.length))
      toast.warning("What was copied is larger than what is left of the table; the rest was left out.");
    if (edits.length > 0) void edit(edits);
  };
  const promises = there?.promises.map((one) => one.promise) ?? [];
  const accounts = { has: (who: string) => index.users.has(who) || index.groups.has(who) };
  const fillWith = (edits: Edit[], nothing: string) => {
    if (edits.length === 0) toast.info(nothing);
    else void edit(edits);
  };
  const fill = async () => {
    setFilling(true);
    try {
      fillWith(
        await ask(api.GET("/api/v1/plans/{plan}/needs/today", { params: { path: { plan: id } } })),
        "Everything that people get today is needed already. Nothing was changed.",
      );
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
      const off = given ? undefined : missed.get(`${who.id} ${place.id}`);
      const more = beyond.has(`${who.id} ${place.id}`);
      const frame = more ? " more" : off ? (off.is === "lacks" ? " less" : " more") : "";
      const key = `${who.id} ${place.id}`;
      const need = needOf(said, groupsOf(who.id), who.id, place.id);
      const wanted = need?.wish === "change" || need?.wish === "read";
      const by = given?.get(key) ?? (given && wanted && who.kind === "person" && !short.has(key) ? "↓" : undefined);
      const gets = off ? `, gets ${off.gets}` : (by ? `, ${BY[by] ?? `by ${by}`}` : "") + (more ? ", beyond the need" : "");
      const word = off ? `gets ${off.gets}` : (by ?? (more ? "more" : undefined));
      if (!need) return { cls: `none${frame}${by ? " by" : ""}`, word, label: `${where}: nothing is needed${gets}` };
      const far = need.who !== who.id;
      const { cls, mark, words } = SIGN[need.wish];
      return {
        cls: `${cls}${far ? " far" : ""}${by ? " by" : ""}${frame}`,
        mark,
        word,
        label: `${where}: ${words}${far ? `, as all of ${whoName(index, need.who)}` : ""}${gets}`,
      };
    },
    [rows, columns, said, missed, index, given, beyond, short, groupsOf],
  );
  /** Whether a need of a person, or of anybody in a group, is not met. */
  const isMissed = (need: Need) =>
    stand?.missed.some(
      (one) => one.is !== "more" && one.place === need.place && (one.user === need.who || groupsOf(one.user).includes(need.who)),
    ) ?? true;
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
          {spoken.size > 0 && (
            <Checkbox
              checked={all}
              onChange={(event) => {
                setBefore(new Set());
                setAll(event.target.checked);
              }}
            >
              all {index.places.size} places
            </Checkbox>
          )}
          <span className="spread" />
          {canEdit && (
            <MenuButton
              words="More"
              choices={[
                { words: "Needs from what people get today", act: () => void fill(), disabled: filling },
                {
                  words: "Needs from promises",
                  act: () => fillWith(fromPromises(promises, accounts, said), "No promise says more than what is needed already."),
                },
                { words: "A table of needs …", act: () => setTable("") },
                { words: "Promise what is met …", act: () => setDialog("promise"), disabled: outline.needs.length === 0 },
                { words: "Simplify the grants that there are …", act: () => setDialog("simplify") },
              ]}
            />
          )}
        </div>
        <div className="needs-stand muted" role="status">
          {outline.needs.length === 0 ? (
            "Nothing is needed yet: choose cells and press c for change, r for read, x for must not, ? for any; or paste or import a table of needs."
          ) : (
            <>
              {plural(stand?.cells ?? 0, "cell")} needed · {counts.lacks.toLocaleString()} needed and not had ·{" "}
              {counts.more.toLocaleString()} had and not needed · {counts.never.toLocaleString()} must not and can read{" "}
              {stand && stand.missed.length > 0 && <Link to={`/p/${id}/board?cells=needs`}>these on the board</Link>}
            </>
          )}
        </div>
        {rows.length === 0 || columns.length === 0 ? (
          <div className="empty">
            <h2>{text ? `No name has “${text}” in it` : "Needs are those of people in places"}</h2>
            <p className="muted">
              {text ? "" : "Add people and places first, or begin with a table of them: names that the plan does not have are made by it."}
            </p>
            {!text && canEdit && (
              <Button type="primary" onClick={() => setTable("")}>
                A table of needs …
              </Button>
            )}
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
            onPaste={onPaste}
            onPainted={paint === "select" ? undefined : (next, nextFrom) => set(paint === "clear" ? null : paint, next, nextFrom)}
          />
        )}
      </div>
      <Side label="Groups from needs">
        {rows[spot.row] && columns[spot.col] && (
          <Here
            rows={rows.slice(Math.min(spot.row, anchor.row), Math.max(spot.row, anchor.row) + 1)}
            place={columns[spot.col]!}
            need={needOf(said, groupsOf(rows[spot.row]!.id), rows[spot.row]!.id, columns[spot.col]!.id)}
            missed={missed.get(`${rows[spot.row]!.id} ${columns[spot.col]!.id}`)}
          />
        )}
        <Suggested answers={answers} chosen={chosen} onChoose={setPicked} />
      </Side>
      <Suspense>
        {table !== null && <TakeIn kind="needs" text={table} onClose={() => setTable(null)} />}
        {dialog === "simplify" && <Simplify place={columns[spot.col]?.id} onClose={() => setDialog(null)} />}
      </Suspense>
      {dialog === "promise" && (
        <ManyDialog
          title="Promise what is met"
          ok="Promise it"
          edits={promised(outline.needs, index.users, new Set(promises.map((one) => one.id)), isMissed)}
          onClose={() => setDialog(null)}
        >
          <p>
            Each need that is met becomes a promise: whatever changes later, Yard Gate says when it would be broken. Needs that are not met
            yet stay needs only.
          </p>
        </ManyDialog>
      )}
    </>
  );
}
