import { Button, Checkbox, Input, Slider } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Edit } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { few, plural } from "../parts/plural";
import { ManyDialog } from "../parts/selection";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { chosenEdits, letter, parts, SMALL, type Found } from "./answers";
import type { Answers } from "./useAnswers";

const TITLES: Record<Found["kind"], string> = {
  exact: "Exact",
  "fewer groups": "Fewer groups",
  "fewer exceptions": "Fewer exceptions",
  simpler: "Simpler",
};
const LISTED = 6;

/** The fewest groups that give what is needed, and other answers beside them; one is chosen, and taken as one step. */
export function Suggested({ answers, chosen, onChoose }: { answers: Answers; chosen: Found | null; onChoose: (found: Found) => void }) {
  const { outline, canEdit } = usePlan();
  const [mayChange, setMayChange] = useState(false);
  const [taking, setTaking] = useState(false);
  const [names, setNames] = useState<ReadonlyMap<string, string>>(new Map());
  const { found, busy, trouble } = answers;
  const exact = found.filter((one) => one.kind !== "simpler");
  const ladder = found.filter((one) => one.kind === "exact" || one.kind === "simpler");
  const step = chosen ? Math.max(0, ladder.indexOf(chosen)) : 0;
  const simpler = ladder[step]?.kind === "simpler" ? ladder[step] : ladder[1];
  const old = chosen !== null && chosen.revision !== outline.revision;
  return (
    <>
      <h2>Groups that give exactly this</h2>
      <div className="row">
        <Button
          size="small"
          type={chosen && !old ? "default" : "primary"}
          loading={busy !== null}
          disabled={outline.needs.length === 0}
          onClick={() => void answers.work(mayChange)}
        >
          {found.length > 0 ? "Work them out again" : "Work them out"}
        </Button>
        {busy !== null && (
          <>
            <span className="muted" role="status">
              {found.length === 0 ? "looking …" : `looking for others … ${Math.round(100 * busy)} %`}
            </span>
            <Button size="small" onClick={answers.stop}>
              Stop
            </Button>
          </>
        )}
      </div>
      <Checkbox checked={mayChange} onChange={(event) => setMayChange(event.target.checked)}>
        members of groups may change
      </Checkbox>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      {chosen && (
        <>
          {old && <p className="late">The plan has changed since; work them out again.</p>}
          <div role="radiogroup" aria-label="Answers" className="answers">
            {[...exact, ...(simpler ? [simpler] : [])].map((one) => (
              <Card key={one.kind} found={one} chosen={one === chosen} onChoose={() => onChoose(one)} />
            ))}
          </div>
          {ladder.length > 1 && (
            <div className="ladder">
              <span className="muted">exact</span>
              <Slider
                min={0}
                max={ladder.length - 1}
                dots
                value={step}
                ariaLabelForHandle="From exact to simple"
                tooltip={{ formatter: (value) => beyondWords(ladder[value ?? 0]!) }}
                onChange={(value) => onChoose(ladder[value]!)}
              />
              <span className="muted">simple</span>
            </div>
          )}
          {chosen.given.length > 0 && <p className="muted">Taken as given: {chosen.given.join(", ")}.</p>}
          <Beyond found={chosen} />
          <Troubles found={chosen} />
          {canEdit && (
            <Button size="small" type="primary" disabled={old || chosen.edits.length === 0} onClick={() => setTaking(true)}>
              {chosen.edits.length === 0 ? "The plan gives this already" : `Take it: ${plural(chosen.edits.length, "edit")} …`}
            </Button>
          )}
          <Groups found={chosen} names={names} onName={(group, name) => setNames((before) => new Map(before).set(group, name))} />
        </>
      )}
      {taking && chosen && <Take found={chosen} names={names} onClose={() => setTaking(false)} />}
    </>
  );
}

const beyondWords = (found: Found) =>
  found.beyond.length === 0 ? "nothing beyond the need" : `${plural(found.beyond.length, "cell")} beyond the need`;

function Card({ found, chosen, onChoose }: { found: Found; chosen: boolean; onChoose: () => void }) {
  const { index } = usePlan();
  const roles = found.roles.filter((role) => role.people.length > 1).slice(0, 2);
  return (
    <button type="button" role="radio" aria-checked={chosen} className={`answer ${chosen ? "chosen" : ""}`} onClick={onChoose}>
      <span>
        <b>{TITLES[found.kind]}</b> <span className="muted">{found.kind === "simpler" ? beyondWords(found) : howGood(found)}</span>
      </span>
      <span className="figures">
        <span>
          <b>{found.new_groups}</b> new {found.new_groups === 1 ? "group" : "groups"}
        </span>
        <span>
          <b>{found.memberships}</b> {found.memberships === 1 ? "membership" : "memberships"}
        </span>
        <span>
          <b>{found.grants}</b> {found.grants === 1 ? "grant" : "grants"}
        </span>
        <span>
          <b>{found.personal}</b> personal
        </span>
      </span>
      {roles.length > 0 && (
        <span className="muted">
          {roles.map((role) => `a new one like ${whoName(index, role.people[0]!)}: ${plural(role.acts, "act")}`).join("; ")}
        </span>
      )}
    </button>
  );
}

function howGood({ kind, gap, proven }: Found): string {
  if (gap >= SMALL) return `at most ${(100 * gap).toFixed(1)} % from the best that was looked at`;
  if (kind === "fewer groups") return "exact, where a group weighs three times as much";
  if (kind === "fewer exceptions") return "exact, where a personal grant weighs four times as much";
  if (proven) return "proven: none is simpler";
  return "the best of the groups that were looked at";
}

/** What a simpler answer gives beyond the need, person by person. */
function Beyond({ found }: { found: Found }) {
  const { index } = usePlan();
  const [all, setAll] = useState(false);
  if (found.beyond.length === 0) return null;
  const by = new Map<string, Found["beyond"]>();
  for (const one of found.beyond) by.set(`${one.user} ${one.gets}`, [...(by.get(`${one.user} ${one.gets}`) ?? []), one]);
  const lines = [...by.values()];
  return (
    <div className="trouble beyond">
      {lines.slice(0, all ? lines.length : LISTED).map((cells) => (
        <p key={`${cells[0]!.user} ${cells[0]!.gets}`}>
          {whoName(index, cells[0]!.user)} could also {cells[0]!.gets === "RW" ? "change" : "read"}{" "}
          {cells.map((one) => pathName(index, one.place)).join(", ")}
        </p>
      ))}
      {lines.length > LISTED && (
        <Button size="small" onClick={() => setAll(!all)}>
          {all ? "fewer" : `${lines.length - LISTED} more`}
        </Button>
      )}
    </div>
  );
}

function Troubles({ found }: { found: Found }) {
  const { id, index } = usePlan();
  return (
    <>
      {found.conflicts.length > 0 && (
        <div className="trouble">
          {found.conflicts.slice(0, 5).map((one) => (
            <p key={`${one.user} ${one.place}`}>
              {whoName(index, one.user)} must not get to {pathName(index, one.place)} by one group, and needs it by another: must not
              counts.
            </p>
          ))}
          {found.conflicts.length > 5 && <p>{plural(found.conflicts.length - 5, "more contradiction")}</p>}
        </div>
      )}
      {found.misses.length > 0 && (
        <div className="trouble">
          {found.misses.slice(0, 5).map((one) => (
            <p key={`${one.user} ${one.place}`}>
              {whoName(index, one.user)} on {pathName(index, one.place)} would get <LevelTag level={one.gets} /> instead of{" "}
              <LevelTag level={one.needed} />: a share, a list by hand or a folder above decides otherwise.{" "}
              <Link to={`/p/${id}/board?who=${encodeURIComponent(one.user)}&place=${encodeURIComponent(one.place)}`}>see why</Link>
            </p>
          ))}
          {found.misses.length > 5 && <p>{plural(found.misses.length - 5, "more cell")}</p>}
        </div>
      )}
    </>
  );
}

function Groups({
  found,
  names,
  onName,
}: {
  found: Found;
  names: ReadonlyMap<string, string>;
  onName: (group: string, name: string) => void;
}) {
  const { index } = usePlan();
  const people = (some: string[]) =>
    few(
      some.map((one) => whoName(index, one)),
      LISTED,
    );
  return (
    <ul className="suggested">
      {found.groups.map((group, number) => (
        <li key={group.id}>
          <span className="letter">{letter(number)}</span>
          {group.there ? (
            <b>{group.name}</b>
          ) : (
            <Input
              size="small"
              aria-label={`Name of the new group ${letter(number)}`}
              value={names.get(group.id) ?? group.name}
              onChange={(event) => onName(group.id, event.target.value)}
            />
          )}{" "}
          <span className="muted">
            {plural(group.members.length, "person", "people")} · {group.there ? "there already" : "new"}
          </span>
          {group.joins.length > 0 && <div>joins: {people(group.joins)}</div>}
          {group.leaves.length > 0 && <div>leaves: {people(group.leaves)}</div>}
          <Grants grants={group.grants} />
          {!group.there && (
            <div className="muted">
              {group.inside.length > 0 &&
                `with the groups ${group.inside.map((one) => names.get(one) ?? groupName(found, index, one)).join(", ")}: `}
              {people(group.members)}
            </div>
          )}
        </li>
      ))}
      {found.singles.map((one) => (
        <li key={one.user}>
          <span className="letter own">•</span>
          <b>{whoName(index, one.user)}</b> <span className="muted">personal</span>
          <Grants grants={one.grants} />
        </li>
      ))}
    </ul>
  );
}

const groupName = (found: Found, index: ReturnType<typeof usePlan>["index"], group: string) =>
  found.groups.find((one) => one.id === group)?.name ?? whoName(index, group);

/** Takes an answer, or those parts of it that are chosen, as one step. */
function Take({ found, names, onClose }: { found: Found; names: ReadonlyMap<string, string>; onClose: () => void }) {
  const { index } = usePlan();
  const split = parts(found, (place) => index.places.get(place)?.parent);
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const moves = found.edits.some((edit) => edit.op === "join" || edit.op === "leave");
  const places = new Set([...split].flatMap(([top, some]) => (left.has(top) ? [] : [...some])));
  const edits: Edit[] = places.size > 0 ? chosenEdits(found, places, names) : [];
  return (
    <ManyDialog title="Groups that give what is needed" ok="Take it" edits={edits} onClose={onClose}>
      <p>These grants take the place of those that there are in {plural(places.size, "place")}. One undo takes it back.</p>
      {split.size > 1 && !moves && (
        <fieldset className="parts">
          <legend>What to take</legend>
          {[...split].map(([top, some]) => (
            <Checkbox
              key={top}
              checked={!left.has(top)}
              onChange={(event) => {
                const next = new Set(left);
                if (event.target.checked) next.delete(top);
                else next.add(top);
                setLeft(next);
              }}
            >
              {pathName(index, top)}
              {some.size > 1 && <span className="muted"> and {some.size - 1} below</span>}
            </Checkbox>
          ))}
        </fieldset>
      )}
    </ManyDialog>
  );
}

function Grants({ grants }: { grants: Found["groups"][number]["grants"] }) {
  const { index } = usePlan();
  const names = (level: string) =>
    grants
      .filter((one) => one.level === level)
      .map((one) => index.places.get(one.place)?.name ?? one.place)
      .join(", ");
  return (
    <>
      {(["RW", "RO"] as const).map((level) =>
        names(level) ? (
          <div key={level}>
            <LevelTag level={level} /> {names(level)}
          </div>
        ) : null,
      )}
    </>
  );
}
