import { App, Button, Input } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { Link, useSearchParams } from "react-router";
import type { Edit, User } from "../api/client";
import { Grid, type GridHandle, type Look, type Spot } from "../parts/Grid";
import { Keys } from "../parts/Keys";
import { Side } from "../parts/Side";
import { isLocal, shownName, shutWord, sourceName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useMemberships } from "../plan/queries";
import { AddDialog } from "./AddDialog";
import { GroupPanel } from "./GroupPanel";
import { PersonPanel } from "./PersonPanel";

type Row = { id: string; name: string; detail: string; state: string; source: string; kind: "person" | "service" | "group" };

/** People, services and groups, with memberships as a matrix that is edited from both sides. */
export default function People() {
  const { id, outline, index, canEdit, edit, step } = usePlan();
  const { message: toast } = App.useApp();
  const [params, setParams] = useSearchParams();
  const [filter, setFilter] = useState("");
  const [adding, setAdding] = useState<"person" | "service" | "group" | null>(null);
  const [keysOpen, setKeysOpen] = useState(false);
  const [at, setAt] = useState<Spot>({ row: 0, col: 0 });
  const [from, setFrom] = useState<Spot>({ row: 0, col: 0 });
  const grid = useRef<GridHandle>(null);

  const rows = useMemo<Row[]>(() => {
    const users = index.usersByName;
    const row = (user: User): Row => ({
      id: user.id,
      name: shownName(user),
      detail: user.name,
      kind: user.kind ?? "person",
      source: isLocal(user) ? "" : sourceName(index, user.id),
      state: shutWord(user, index),
    });
    const people = users.filter((user) => user.kind !== "service").map(row);
    const services = users.filter((user) => user.kind === "service").map(row);
    const groups = index.groupsByName.map((group): Row => ({
      id: group.id,
      name: group.name,
      detail: `${group.members.length} members`,
      kind: "group",
      source: isLocal(group) ? "" : sourceName(index, group.id),
      state: group.gone ? "gone" : outline.target.baseline === group.id ? "baseline" : "",
    }));
    const text = filter.trim().toLowerCase();
    return [...people, ...services, ...groups].filter(
      (one) => !text || `${one.name} ${one.source}\\${one.detail} ${one.state}`.toLowerCase().includes(text),
    );
  }, [outline.target.baseline, index, filter]);
  const columns = index.groupsByName;
  const direct = useMemo(() => new Map(outline.groups.map((group) => [group.id, new Set(group.members)])), [outline.groups]);
  const unlisted = useMemberships().data;
  const far = useMemo(() => new Map(Object.entries(unlisted ?? {}).map(([who, groups]) => [who, new Set(groups)])), [unlisted]);

  const spot = { row: Math.min(at.row, Math.max(0, rows.length - 1)), col: Math.min(at.col, Math.max(0, columns.length - 1)) };
  const anchor = { row: Math.min(from.row, Math.max(0, rows.length - 1)), col: Math.min(from.col, Math.max(0, columns.length - 1)) };
  const chosen = params.get("who") ?? rows[spot.row]?.id;

  const address = useRef(setParams); // another function at every address: rows are not drawn by it
  address.current = setParams;
  const choose = useCallback((who: string) => address.current({ who }, { replace: true }), []);
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

  const toggle = () => {
    if (!canEdit) {
      toast.info("This account may only read. Nothing was changed.");
      return;
    }
    const cells: [string, string][] = [];
    for (let row = Math.min(spot.row, anchor.row); row <= Math.max(spot.row, anchor.row); row++) {
      for (let col = Math.min(spot.col, anchor.col); col <= Math.max(spot.col, anchor.col); col++) {
        const [member, group] = [rows[row]?.id, columns[col]?.id];
        if (member && group && member !== group) cells.push([group, member]);
      }
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

  const onKey = (event: KeyboardEvent) => {
    const control = event.ctrlKey || event.metaKey;
    if (control && ["z", "y"].includes(event.key.toLowerCase())) {
      event.preventDefault();
      if (canEdit) void step(event.key.toLowerCase() === "y" || event.shiftKey ? "redo" : "undo");
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
        <button
          className="plain"
          tabIndex={-1}
          style={{ display: "grid", gridTemplateColumns: "200px 110px 1fr", gap: 8, alignItems: "baseline", width: "100%" }}
          onClick={open}
        >
          <span className="n">
            {one.name}{" "}
            {one.source && (
              <span className="source" style={{ fontWeight: 400 }}>
                {one.source}
              </span>
            )}
          </span>
          <small style={{ fontWeight: 400 }}>{one.detail}</small>
          <small style={{ fontWeight: 400 }}>{[one.kind === "person" ? "" : one.kind, one.state].filter(Boolean).join(", ")}</small>
        </button>
      );
    },
    [rows, choose],
  );

  const user = chosen ? index.users.get(chosen) : undefined;
  const group = chosen ? index.groups.get(chosen) : undefined;
  return (
    <>
      <div className="work">
        <div className="tools">
          <Input
            size="small"
            allowClear
            placeholder="Only names with …"
            aria-label="Only names with"
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
            style={{ width: 180 }}
          />
          <span className="muted">● member · ○ indirect member</span>
          <span className="spread" />
          {canEdit && <Link to={`/p/${id}/rollout?signin=`}>Passwords, sessions …</Link>}
          <Link to={`/p/${id}/directories`}>
            {outline.directories.length === 0 ? "Directory …" : outline.directories.map((one) => one.name).join(", ")}
          </Link>
          {canEdit && (
            <>
              <Button size="small" onClick={() => setAdding("person")}>
                Add person
              </Button>
              <Button size="small" onClick={() => setAdding("service")}>
                Add service
              </Button>
              <Button size="small" onClick={() => setAdding("group")}>
                Add group
              </Button>
            </>
          )}
          <Button size="small" onClick={() => setKeysOpen(true)} aria-label="Keys">
            ?
          </Button>
        </div>
        {outline.users.length + outline.groups.length === 0 ? (
          <div className="empty">
            <h2>Nobody is in this plan yet</h2>
            <p className="muted">
              Import a table of people or a Linux host's passwd and group files (Import, above), or add people and groups one by one.
            </p>
          </div>
        ) : rows.length === 0 ? (
          <div className="empty">
            <h2>No name has “{filter}” in it</h2>
            <Button onClick={() => setFilter("")}>Show all</Button>
          </div>
        ) : (
          // eslint-disable-next-line jsx-a11y/no-static-element-interactions -- Space does the same in the grid
          <div style={{ display: "contents" }} onDoubleClick={(event) => (event.target as HTMLElement).closest("[data-col]") && toggle()}>
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
              rowClass={(row) => (rows[row]!.kind === "group" ? "group" : "person flat")}
              rowHead={rowHead}
              corner={
                <span>
                  {outline.users.length} people and services · {outline.groups.length} groups
                </span>
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
            />
          </div>
        )}
      </div>
      <Side label="Details">
        {user ? (
          <PersonPanel key={user.id} user={user} />
        ) : group ? (
          <GroupPanel key={group.id} group={group} />
        ) : (
          <p className="muted">Choose a person or a group.</p>
        )}
      </Side>
      {adding && (
        <AddDialog
          kind={adding}
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
