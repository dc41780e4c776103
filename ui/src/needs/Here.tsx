import { useQuery } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, ask, message, type Edit, type Place, type Schemas } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { few, plural } from "../parts/plural";
import { ManyDialog } from "../parts/selection";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { SIGN, type Need } from "./wishes";

export interface Row {
  id: string;
  name: string;
  kind: "person" | "group";
}

/** The chosen cell: what is needed there, who asked for it and why; and which groups would give a person what they need. */
export function Here({ rows, place, need, missed }: { rows: Row[]; place: Place; need?: Need; missed?: Schemas["MissedOut"] }) {
  const { id, index, canEdit, edit } = usePlan();
  const who = rows[0]!;
  const people = rows.filter((one) => one.kind === "person");
  return (
    <section className="here" aria-label="The chosen cell">
      <h2>
        {rows.length > 1 ? plural(rows.length, "row") : who.name} <span className="muted">on {pathName(index, place.id)}</span>
      </h2>
      {rows.length === 1 && (
        <p>
          {need ? SIGN[need.wish].words : "nothing is needed"}
          {need && need.who !== who.id && `, as all of ${whoName(index, need.who)}`}
          {need && need.who !== who.id && need.asked_by && `; asked for by ${need.asked_by}`}
          {need && need.who !== who.id && need.note && `: ${need.note}`}
          {missed && (
            <>
              , gets <LevelTag level={missed.gets} />{" "}
              <Link to={`/p/${id}/board?who=${encodeURIComponent(who.id)}&place=${encodeURIComponent(place.id)}`}>why</Link>
            </>
          )}
        </p>
      )}
      {rows.length === 1 && need?.who === who.id && (
        <Asked
          key={`${need.id} ${need.asked_by} ${need.note}`}
          need={need}
          onKeep={(next) => void edit([{ op: "put-need", need: next }])}
          locked={!canEdit}
        />
      )}
      {rows.length === 1 && who.kind === "person" && <Fits key={who.id} who={who} />}
      {people.length > 1 && canEdit && <Project people={people} />}
    </section>
  );
}

/** Who asked, and a note; kept when one leaves the field. */
function Asked({ need, onKeep, locked }: { need: Need; onKeep: (need: Need) => void; locked: boolean }) {
  const [by, setBy] = useState(need.asked_by ?? "");
  const [note, setNote] = useState(need.note ?? "");
  const keep = () => {
    if (by !== (need.asked_by ?? "") || note !== (need.note ?? "")) onKeep({ ...need, asked_by: by.trim(), note: note.trim() });
  };
  const both = { size: "small", disabled: locked, onBlur: keep, onPressEnter: keep } as const;
  return (
    <div className="asked">
      <Input
        placeholder="asked for by …"
        aria-label="Asked for by"
        maxLength={200}
        value={by}
        onChange={(event) => setBy(event.target.value)}
        {...both}
      />
      <Input
        placeholder="note …"
        aria-label="Note"
        maxLength={4000}
        value={note}
        onChange={(event) => setNote(event.target.value)}
        {...both}
      />
    </div>
  );
}

/** What takes the place of the button that asked for it takes its focus, too. */
const takesFocus = (shown: HTMLElement | null) => shown?.focus({ preventScroll: true });

/** The groups that would give somebody what they need. */
function Fits({ who }: { who: Row }) {
  const { id, index, outline, canEdit, edit } = usePlan();
  const [open, setOpen] = useState(false);
  const found = useQuery({
    queryKey: ["of-plan", id, "fits", who.id, outline.revision],
    enabled: open,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/needs/fits/{user}", { params: { path: { plan: id, user: who.id } } })),
  });
  if (!open)
    return (
      <Button size="small" onClick={() => setOpen(true)}>
        Which groups fit {who.name}?
      </Button>
    );
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data)
    return (
      <p className="muted" role="status">
        Trying the groups …
      </p>
    );
  const { now, fits } = found.data;
  const names = (places: string[]) =>
    few(
      places.map((one) => index.places.get(one)?.name ?? one),
      4,
    );
  const already = new Set(now.beyond);
  return (
    <div className="fits" tabIndex={-1} ref={takesFocus}>
      <p>{now.lacks.length === 0 ? `${who.name} gets all that they need.` : `${who.name} lacks ${names(now.lacks)}.`}</p>
      {now.lacks.length > 0 && fits.length === 0 && <p className="muted">No group that there is gives any of it.</p>}
      {fits.map((fit) => {
        const more = fit.beyond.filter((one) => !already.has(one));
        return (
          <div key={fit.groups.join()} className="row">
            <span className="spread">
              <b>{fit.groups.map((group) => whoName(index, group)).join(" and ")}</b>{" "}
              {fit.lacks.length === 0 ? "gives all of it" : <>leaves out {names(fit.lacks)}</>}
              {more.length > 0 && <span className="late">, and {names(more)} beyond the need</span>}
              {fit.never.length > now.never.length && <b className="late">, which they must not have</b>}
            </span>
            {canEdit && (
              <Button size="small" onClick={() => void edit(fit.groups.map((group): Edit => ({ op: "join", group, member: who.id })))}>
                Join
              </Button>
            )}
          </div>
        );
      })}
    </div>
  );
}

/** A new group of the chosen people, granted what each of them needs. */
function Project({ people }: { people: Row[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button size="small" onClick={() => setOpen(true)}>
        A group of these {people.length} …
      </Button>
      {open && <ProjectDialog people={people} onClose={() => setOpen(false)} />}
    </>
  );
}

function ProjectDialog({ people, onClose }: { people: Row[]; onClose: () => void }) {
  const { id, index } = usePlan();
  const [found, setFound] = useState<Edit[] | null>(null);
  const [trouble, setTrouble] = useState("");
  const [name, setName] = useState<string | null>(null);
  const whos = people.map((one) => one.id).join();
  useEffect(() => {
    let gone = false;
    ask(api.POST("/api/v1/plans/{plan}/project", { params: { path: { plan: id } }, body: { people: whos.split(",") } })).then(
      (one) => !gone && setFound(one.edits),
      (error: unknown) => !gone && setTrouble(message(error)),
    );
    return () => {
      gone = true;
    };
  }, [id, whos]);
  const proposed = found?.find((one) => one.op === "put-group");
  const called = name ?? proposed?.group.name ?? "";
  const edits = (found ?? []).map((one) => (one.op === "put-group" ? { ...one, group: { ...one.group, name: called.trim() } } : one));
  return (
    <ManyDialog
      title={`A group of ${plural(people.length, "person", "people")}`}
      ok="Make it"
      edits={called.trim() === "" ? [] : edits}
      onClose={onClose}
    >
      {trouble && <div className="trouble">{trouble}</div>}
      {!found && !trouble && (
        <p className="muted" role="status">
          Looking for what they have in common …
        </p>
      )}
      {found && !proposed && <p>These have nothing in common: no place is needed by each of them.</p>}
      {proposed && (
        <>
          <label className="field">
            <span>Name</span>
            <Input autoFocus value={called} onChange={(event) => setName(event.target.value)} />
          </label>
          <p>{people.map((one) => one.name).join(", ")}</p>
          <p>
            It is granted what each of them needs, or gets where nothing is said:
            <br />
            {edits.map((one) =>
              one.op === "set-grant" ? (
                <span key={one.place}>
                  <LevelTag level={one.level!} /> {pathName(index, one.place)}{" "}
                </span>
              ) : null,
            )}
          </p>
        </>
      )}
    </ManyDialog>
  );
}
