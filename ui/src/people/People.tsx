import { App, Button, Input, Select, Space } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { Menu } from "../parts/Menu";
import { changed } from "../parts/address";
import type { Edit } from "../api/client";
import { Grid, type GridHandle, type Look, type Spot } from "../parts/Grid";
import { Keys } from "../parts/Keys";
import { Side } from "../parts/Side";
import { useSelection } from "../parts/selection";
import { Tick } from "../parts/Tick";
import { isLocal, sourceName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useMemberships } from "../plan/queries";
import { AddDialog } from "./AddDialog";
import { GroupPanel } from "./GroupPanel";
import { PersonPanel } from "./PersonPanel";
import { isShow, rowsOf, SHOWS, type Show } from "./rows";
import { Selected } from "./Selected";

/** People, services and groups, with memberships as a matrix that is edited from both sides. */
export default function People() {
  const { id, outline, index, canEdit, edit } = usePlan();
  const { message: toast } = App.useApp();
  const [params, setParams] = useSearchParams();
  const [filter, setFilter] = useState("");
  const [adding, setAdding] = useState<{ kind: "person" | "service" | "group"; like?: string } | null>(null);
  const [keysOpen, setKeysOpen] = useState(false);
  const [at, setAt] = useState<Spot>({ row: 0, col: 0 });
  const [from, setFrom] = useState<Spot>({ row: 0, col: 0 });
  const grid = useRef<GridHandle>(null);

  const show: Show = isShow(params.get("show")) ? (params.get("show") as Show) : "all";
  const within = index.groups.get(params.get("in") ?? "");
  const columns = index.groupsByName;
  const direct = useMemo(() => new Map(outline.groups.map((group) => [group.id, new Set(group.members)])), [outline.groups]);
  const unlisted = useMemberships().data;
  const [today] = useState(() => new Date());
  const members = useMemo(() => within && new Set(within.members), [within]);
  const rows = useMemo(() => rowsOf(outline, index, show, filter, members ?? null, today), [outline, index, show, filter, members, today]);
  const shownIds = useMemo(() => rows.map((row) => row.id), [rows]);
  const known = useMemo(() => ({ has: (one: string) => index.users.has(one) || index.groups.has(one) }), [index]);
  const selection = useSelection(shownIds, known);
  const { chosen: several, turn } = selection;
  const whole = several.size > 0 && shownIds.every((one) => several.has(one));
  const far = useMemo(() => new Map(Object.entries(unlisted ?? {}).map(([who, groups]) => [who, new Set(groups)])), [unlisted]);

  const spot = { row: Math.min(at.row, Math.max(0, rows.length - 1)), col: Math.min(at.col, Math.max(0, columns.length - 1)) };
  const anchor = { row: Math.min(from.row, Math.max(0, rows.length - 1)), col: Math.min(from.col, Math.max(0, columns.length - 1)) };
  const chosen = params.get("who") ?? rows[spot.row]?.id;

  const wantsAdd = params.get("add");
  useEffect(() => {
    if (wantsAdd !== "person" && wantsAdd !== "service" && wantsAdd !== "group") return;
    if (canEdit) setAdding({ kind: wantsAdd });
    address.current((old) => changed(old, { add: null }), { replace: true });
  }, [wantsAdd, canEdit]);
  const address = useRef(setParams); // another function at every address: rows are not drawn by it
  address.current = setParams;
  const ask = useCallback((change: Record<string, string | null>) => address.current((old) => changed(old, change), { replace: true }), []);
  const choose = useCallback((who: string) => ask({ who }), [ask]);
  const wanted = params.get("who");
  const went = useRef<string | null>(null);
  useEffect(() => {
    if (!wanted || went.current === wanted) return;
    const row = rows.findIndex((one) => one.id === wanted);
    if (row < 0) return;
    went.current = wanted;
    setAt((old) => ({ row, col: old.col }));
    setFrom((old) => ({ row, col: old.col }));
    grid.current?.show({ row, col: 0 });
  }, [wanted, rows]);

  const change = (cells: [group: string, member: string][]) => {
    if (!canEdit) {
      toast.info("This account may only read. Nothing was changed.");
      return;
    }
    const missing = cells.filter(([group, member]) => !direct.get(group)?.has(member));
    const edits: Edit[] =
      missing.length > 0
        ? missing.map(([group, member]) => ({ op: "join", group, member }))
        : cells.map(([group, member]) => ({ op: "leave", group, member }));
    const foreign = edits
      .flatMap((one) => (one.op === "join" || one.op === "leave" ? [index.groups.get(one.group)] : []))
      .find((group) => group && !isLocal(group));
    if (foreign)
      toast.info(
        `Who is in ${foreign.name} is kept in ${sourceName(index, foreign.id)}: change it there and read it again. Nothing was changed.`,
      );
    else if (edits.length > 0) void edit(edits);
  };
  const cellsIn = (one: Spot, other: Spot) => {
    const cells: [string, string][] = [];
    for (let row = Math.min(one.row, other.row); row <= Math.max(one.row, other.row); row++) {
      for (let col = Math.min(one.col, other.col); col <= Math.max(one.col, other.col); col++) {
        const [member, group] = [rows[row]?.id, columns[col]?.id];
        if (member && group && member !== group) cells.push([group, member]);
      }
    }
    return cells;
  };
  const toggle = () => change(cellsIn(spot, anchor));
  const turnCell = (one: Spot) => change(cellsIn(one, one));

  const onKey = (event: KeyboardEvent) => {
    const control = event.ctrlKey || event.metaKey;
    if (control && event.key.toLowerCase() === "a") {
      event.preventDefault();
      selection.set(shownIds);
    } else if (event.key === " " && event.shiftKey) {
      event.preventDefault();
      for (let row = Math.min(spot.row, anchor.row); row <= Math.max(spot.row, anchor.row); row++) if (rows[row]) turn(rows[row]!.id);
    } else if (event.key === "Escape" && several.size > 0) {
      event.preventDefault();
      selection.set([]);
    } else if (event.key === " ") {
      event.preventDefault();
      toggle();
    } else if (event.key === "Enter") {
      event.preventDefault();
      document.querySelector<HTMLElement>(".side input")?.focus();
    } else if (event.key === "?") {
      setKeysOpen(true);
    }
  };

  const look = useCallback(
    (row: number, col: number): Look => {
      const [member, group] = [rows[row]!, columns[col]!];
      const name = `${member.name} in ${group.name}`;
      if (direct.get(group.id)?.has(member.id)) return { cls: "mark", mark: "●", label: `${name}: member` };
      if (index.users.get(member.id)?.primary_group === group.id) return { cls: "mark", mark: "●", label: `${name}: primary group` };
      if (far.get(member.id)?.has(group.id))
        return {
          cls: "mark far",
          mark: "○",
          label: `${name}: ${outline.target.baseline === group.id ? "in the baseline without being listed" : "through another group"}`,
        };
      return { cls: "none", label: `${name}: not a member` };
    },
    [rows, columns, direct, far, index, outline.target.baseline],
  );
  const columnKey = useCallback((col: number) => columns[col]?.id ?? String(col), [columns]);
  const rowHead = useCallback(
    (row: number) => {
      const one = rows[row]!;
      const open = () => {
        went.current = one.id;
        setAt((old) => ({ row, col: old.col }));
        setFrom((old) => ({ row, col: old.col }));
        choose(one.id);
      };
      return (
        <>
          <Tick inGrid on={several.has(one.id)} label={`Choose ${one.name}`} onTurn={(range) => turn(one.id, range)} />
          <button className="plain person-head" tabIndex={-1} onClick={open}>
            <span className="n">
              {one.name}{" "}
              {one.source && (
                <span className="source" style={{ fontWeight: 400 }}>
                  {one.source}
                </span>
              )}
            </span>
            <small style={{ fontWeight: 400 }}>
              {[one.detail, one.kind === "person" ? "" : one.kind, one.state].filter(Boolean).join(" · ")}
            </small>
          </button>
        </>
      );
    },
    [rows, choose, several, turn],
  );

  const user = chosen ? index.users.get(chosen) : undefined;
  const group = chosen ? index.groups.get(chosen) : undefined;
  return (
    <>
      <div className="work">
        {several.size > 0 && canEdit ? (
          <Selected selection={selection} hidden={[...several].filter((one) => !shownIds.includes(one)).length} />
        ) : (
          <div className="tools">
            <Input
              size="small"
              allowClear
              placeholder="Only names with …"
              aria-label="Only names with"
              value={filter}
              onChange={(event) => setFilter(event.target.value)}
              style={{ width: 160 }}
            />
            <Select<Show>
              size="small"
              aria-label="Show"
              popupMatchSelectWidth={false}
              style={{ width: 190 }}
              value={show}
              onChange={(next) => ask({ show: next === "all" ? null : next })}
              options={Object.entries(SHOWS).map(([value, label]) => ({ value: value as Show, label }))}
            />
            <Select
              size="small"
              allowClear
              aria-label="Only members of"
              placeholder="in any group"
              popupMatchSelectWidth={false}
              showSearch={{ optionFilterProp: "label" }}
              style={{ width: 140 }}
              value={within?.id}
              onChange={(next?: string) => ask({ in: next ?? null })}
              options={index.groupsByName.map((group) => ({ value: group.id, label: `in ${group.name}` }))}
            />
            <span className="spread" />
            {canEdit && <Link to={`/p/${id}/rollout?signin=`}>Passwords, sessions …</Link>}
            <Link to={`/p/${id}/directories`}>
              {outline.directories.length === 0 ? "Directory …" : outline.directories.map((one) => one.name).join(", ")}
            </Link>
            {canEdit && (
              <>
                <Space.Compact>
                  <Button size="small" type="primary" onClick={() => setAdding({ kind: "person" })}>
                    Add person
                  </Button>
                  <Menu
                    items={[
                      { key: "service", label: "Add service" },
                      { key: "group", label: "Add group" },
                    ]}
                    onChoose={(key) => setAdding({ kind: key as "service" | "group" })}
                  >
                    <Button size="small" type="primary" style={{ minWidth: 24 }} aria-label="Add something else">
                      ▾
                    </Button>
                  </Menu>
                </Space.Compact>
              </>
            )}
            <Button size="small" onClick={() => setKeysOpen(true)} aria-label="Keys">
              ?
            </Button>
          </div>
        )}
        {outline.users.length + outline.groups.length === 0 ? (
          <div className="empty">
            <h2>Nobody is in this plan yet</h2>
            <p className="muted">
              Import a table of people or a Linux host's passwd and group files (Import, above), or add people and groups one by one.
            </p>
          </div>
        ) : rows.length === 0 ? (
          <div className="empty">
            <h2>
              {filter ? `No name has “${filter}” in it` : `There are no ${SHOWS[show]}`}
              {within ? `, in ${within.name}` : ""}
            </h2>
            <Button
              onClick={() => {
                setFilter("");
                ask({ show: null, in: null });
              }}
            >
              Show all
            </Button>
          </div>
        ) : (
          <Grid
            handle={grid}
            label="Memberships"
            rows={rows.length}
            columns={columns.length}
            rowHeight={27}
            columnWidth={40}
            headHeight={118}
            rowHeadWidth={400}
            rowKey={(row) => rows[row]?.id ?? String(row)}
            columnKey={columnKey}
            rowClass={(row) => (rows[row]!.kind === "group" ? "group choosable" : "person flat choosable")}
            rowHead={rowHead}
            corner={
              <>
                <Tick
                  inGrid
                  on={whole}
                  mixed={several.size > 0}
                  label="Choose all that are shown"
                  onTurn={() => selection.set(whole ? [] : shownIds)}
                />
                <span>
                  {rows.length < outline.users.length + outline.groups.length ? `${rows.length.toLocaleString()} of ` : ""}
                  {outline.users.length.toLocaleString()} people and services · {outline.groups.length.toLocaleString()} groups
                  <br />
                  <small>● member · ○ indirect member · a click changes it</small>
                </span>
              </>
            }
            heads={(cols, width) =>
              cols.map(({ index: number, start }) => (
                <div
                  key={columns[number]!.id}
                  className={`head ${number === spot.col ? "lit" : ""}`}
                  role="columnheader"
                  aria-colindex={number + 2}
                  style={{ left: start, width, top: 0, height: 118 }}
                >
                  <button
                    className="plain slant"
                    tabIndex={-1}
                    title={`Open ${columns[number]!.name}`}
                    onClick={() => choose(columns[number]!.id)}
                  >
                    {columns[number]!.name}
                  </button>
                </div>
              ))
            }
            look={look}
            at={spot}
            from={anchor}
            onMove={(next, nextFrom) => {
              setAt(next);
              setFrom(nextFrom);
              const row = rows[next.row];
              if (row) {
                went.current = row.id;
                choose(row.id);
              }
            }}
            onKey={onKey}
            onPainted={(next, nextFrom) => next.row === nextFrom.row && next.col === nextFrom.col && turnCell(next)}
          />
        )}
      </div>
      <Side label="Details">
        {user ? (
          <PersonPanel key={user.id} user={user} onLike={() => setAdding({ kind: user.kind ?? "person", like: user.id })} />
        ) : group ? (
          <GroupPanel key={group.id} group={group} onLike={() => setAdding({ kind: "group", like: group.id })} />
        ) : (
          <p className="muted">Choose a person or a group.</p>
        )}
      </Side>
      {adding && (
        <AddDialog
          {...adding}
          onClose={(added) => {
            setAdding(null);
            if (added) choose(added);
          }}
        />
      )}
      <Keys open={keysOpen} onClose={() => setKeysOpen(false)} />
    </>
  );
}
