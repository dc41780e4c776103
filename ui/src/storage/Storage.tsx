import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type Edit, type Level, type Place } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { CopyDialog } from "../parts/CopyDialog";
import { Field } from "../parts/Field";
import { RemoveDialog } from "../parts/RemoveDialog";
import { MenuButton } from "../parts/Menu";
import { plural } from "../parts/plural";
import { Side } from "../parts/Side";
import { below, pathName, whoName, type PlanIndex } from "../plan/index";
import { useSelection } from "../parts/selection";
import { usePlan } from "../plan/PlanContext";
import { notEmpty } from "../people/PersonPanel";
import { AsText, Begin, ChangeStyle, PushDown } from "./arrange";
import { OneEach, PersonalWords } from "./Each";
import { Mark } from "./Mark";
import { Heading, Layers, ReadInOrder } from "./Layers";
import { OnHost } from "./OnHost";
import { Outcome } from "./Outcome";
import { AddPlace, MoveDialog } from "./places";
import { Selected } from "./Selected";
import { STYLE_WORDS } from "./words";

const INSIDE: Record<Place["kind"], Place["kind"][]> = { pool: ["dataset", "folder"], dataset: ["dataset", "folder"], folder: ["folder"] };

/** Where else a place may lie. */
const placesFor = (places: Place[], index: PlanIndex, place: Place) =>
  places.filter((other) => other.id !== place.id && INSIDE[other.kind].includes(place.kind) && !below(index, place.id).includes(other));

/** The storage tree, and for the place chosen: what is granted, in which order, and who comes out with what. */
export default function Storage() {
  const { outline, index, canEdit, edit } = usePlan();
  const [params, setParams] = useSearchParams();
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const [adding, setAdding] = useState<{ kind: Place["kind"]; parent: string | null } | null>(() =>
    canEdit && params.get("add") === "pool" ? { kind: "pool", parent: null } : null,
  );
  const tree = useRef<HTMLDivElement>(null);
  const shown = useMemo(() => {
    const found: { place: Place; depth: number }[] = [];
    const walk = (parent: string | null, depth: number) => {
      for (const place of index.children.get(parent) ?? []) {
        found.push({ place, depth });
        if (!folded.has(place.id)) walk(place.id, depth + 1);
      }
    };
    walk(null, 0);
    return found;
  }, [index, folded]);
  const shownIds = useMemo(() => shown.map(({ place }) => place.id), [shown]);
  const selection = useSelection(shownIds, index.places);
  const [several, setSeveral] = useState(false);
  const many = several && selection.chosen.size > 0;
  const chosen = index.places.get(params.get("place") ?? "") ?? shown.find(({ depth }) => depth > 0)?.place ?? shown[0]?.place;
  const choose = (place: string) => setParams({ place }, { replace: true });
  const fold = (place: string, to: boolean) =>
    setFolded((old) => {
      const next = new Set(old);
      if (to) next.add(place);
      else next.delete(place);
      return next;
    });

  const dragged = useRef<string | null>(null);
  const [over, setOver] = useState<string | null>(null);
  const [moving, setMoving] = useState<{ place: string; to: string } | null>(null);
  /** Whether what is dragged may lie in a place: shown before it is let go. */
  const takes = (into: Place) => {
    const moved = index.places.get(dragged.current ?? "");
    return moved !== undefined && moved.parent !== into.id && placesFor(outline.places, index, moved).includes(into);
  };

  const onKeyDown = (event: KeyboardEvent) => {
    const number = shown.findIndex(({ place }) => place.id === chosen?.id);
    const inner = chosen ? (index.children.get(chosen.id) ?? []) : [];
    const open = chosen && inner.length > 0 && !folded.has(chosen.id);
    const to = { ArrowDown: shown[number + 1], ArrowUp: shown[number - 1], Home: shown[0], End: shown.at(-1) }[event.key];
    if (event.key === " " && chosen && canEdit) {
      setSeveral(true);
      selection.turn(chosen.id, event.shiftKey);
    } else if (event.key === "Escape" && several) {
      setSeveral(false);
      selection.set([]);
    } else if (to) choose(to.place.id);
    else if (event.key === "ArrowRight" && chosen && inner.length > 0) {
      if (open) choose(inner[0]!.id);
      else fold(chosen.id, false);
    } else if (event.key === "ArrowLeft" && chosen) {
      if (open) fold(chosen.id, true);
      else if (chosen.parent) choose(chosen.parent);
    } else return;
    event.preventDefault();
  };
  useEffect(() => {
    void tree.current?.querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
  }, [chosen?.id]);

  return (
    <>
      <div className="tree">
        <div className="row" style={{ padding: "2px 10px 8px" }}>
          <span className="muted spread">{index.places.size} places</span>
          {canEdit && (
            <>
              {index.places.size > 1 && (
                <Button
                  size="small"
                  aria-pressed={several}
                  onClick={() => {
                    setSeveral(!several);
                    selection.set([]);
                  }}
                >
                  {several ? "Only one" : "Several"}
                </Button>
              )}
              <Button size="small" onClick={() => setAdding({ kind: "pool", parent: null })}>
                Add pool
              </Button>
            </>
          )}
        </div>
        <div
          ref={tree}
          role="tree"
          aria-label="Storage"
          tabIndex={0}
          onKeyDown={onKeyDown}
          aria-multiselectable={several || undefined}
          aria-activedescendant={chosen ? `place-${chosen.id}` : undefined}
        >
          {shown.map(({ place, depth }) => {
            const inner = (index.children.get(place.id) ?? []).length > 0;
            return (
              // eslint-disable-next-line jsx-a11y/click-events-have-key-events, jsx-a11y/interactive-supports-focus -- the tree has the focus and the keys
              <div
                key={place.id}
                id={`place-${place.id}`}
                role="treeitem"
                aria-level={depth + 1}
                aria-selected={several ? selection.chosen.has(place.id) : place.id === chosen?.id}
                aria-current={several && place.id === chosen?.id ? "true" : undefined}
                aria-expanded={inner ? !folded.has(place.id) : undefined}
                style={{ paddingLeft: 12 + depth * 18 }}
                draggable={canEdit && place.kind !== "pool" && !several}
                className={over === place.id ? "drop" : undefined}
                onDragStart={(event) => {
                  event.dataTransfer.setData("text/plain", place.id);
                  event.dataTransfer.effectAllowed = "move";
                  dragged.current = place.id;
                }}
                onDragEnd={() => {
                  dragged.current = null;
                  setOver(null);
                }}
                onDragOver={(event) => {
                  if (!takes(place)) return;
                  event.preventDefault();
                  setOver(place.id);
                }}
                onDragLeave={() => setOver((old) => (old === place.id ? null : old))}
                onDrop={(event) => {
                  event.preventDefault();
                  if (dragged.current && takes(place)) setMoving({ place: dragged.current, to: place.id });
                  setOver(null);
                }}
                onClick={(event) => {
                  if (several || event.ctrlKey || event.metaKey) {
                    setSeveral(true);
                    selection.turn(place.id, event.shiftKey);
                  } else choose(place.id);
                }}
              >
                {several && (
                  <span className={`tick-sign${selection.chosen.has(place.id) ? " on" : ""}`} aria-hidden="true">
                    {selection.chosen.has(place.id) ? "✓" : ""}
                  </span>
                )}
                <span
                  aria-hidden="true"
                  style={{ width: 10 }}
                  onClick={(event) => {
                    if (inner) {
                      event.stopPropagation();
                      fold(place.id, !folded.has(place.id));
                    }
                  }}
                >
                  {inner ? (folded.has(place.id) ? "▸" : "▾") : ""}
                </span>
                <span style={{ fontWeight: depth < 2 ? 600 : 400, overflow: "hidden", textOverflow: "ellipsis" }}>{place.name}</span>
                <Mark
                  place={place}
                  style={outline.standing[place.id]?.style ?? null}
                  above={place.parent ? (outline.standing[place.parent]?.style ?? null) : null}
                  grants={outline.grants[place.id]?.length ?? 0}
                />
              </div>
            );
          })}
        </div>
      </div>
      {many ? (
        <Selected selection={selection} onDone={() => setSeveral(false)} />
      ) : chosen ? (
        <PlaceDetail
          key={chosen.id}
          place={chosen}
          onAdd={(kind) => setAdding({ kind, parent: chosen.id })}
          onMade={choose}
          onGone={() => setParams(chosen.parent ? { place: chosen.parent } : {}, { replace: true })}
        />
      ) : (
        <div className="detail">
          <div className="empty">
            <h2>No storage is planned yet</h2>
            <p className="muted">
              Begin with the pool as the appliance names it; datasets and folders lie inside it. Only places where access changes need to be
              here.
            </p>
            {canEdit && (
              <Button type="primary" onClick={() => setAdding({ kind: "pool", parent: null })}>
                Add a pool
              </Button>
            )}
          </div>
        </div>
      )}
      {moving && index.places.has(moving.place) && (
        <MoveDialog
          place={index.places.get(moving.place)!}
          to={moving.to}
          targets={placesFor(outline.places, index, index.places.get(moving.place)!)}
          onClose={() => setMoving(null)}
          onMove={(parent) => void edit([{ op: "put-place", place: { ...index.places.get(moving.place)!, parent } }])}
        />
      )}
      {adding && (
        <AddPlace
          {...adding}
          onClose={(added) => {
            setAdding(null);
            if (added) {
              if (adding.parent) fold(adding.parent, false);
              choose(added);
            }
          }}
        />
      )}
    </>
  );
}

function PlaceDetail({
  place,
  onAdd,
  onGone,
  onMade,
}: {
  place: Place;
  onAdd: (kind: Place["kind"]) => void;
  onGone: () => void;
  onMade: (place: string) => void;
}) {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [dialog, setDialog] = useState<"remove" | "move" | "push" | "style" | "begin" | "text" | "each" | "copy" | null>(null);
  const stored = useQuery({
    queryKey: ["of-plan", id, "stored", place.id],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage", { params: { path: { plan: id }, query: { place: place.id } } })),
  });
  const lines = outline.grants[place.id] ?? [];
  const put = (change: Partial<Place>, more: Edit[] = []) => void edit([{ op: "put-place", place: { ...place, ...change } }, ...more]);
  const move = (who: string, level: Level, at: number) => void edit([{ op: "set-grant", place: place.id, who, level, at }]);
  const targets = placesFor(outline.places, index, place);
  const style = outline.standing[place.id]?.style ?? null;
  const inner = below(index, place.id).length;
  const close = () => setDialog(null);
  return (
    <>
      <div className="detail">
        <div className="row">
          <h2>{place.name}</h2>
          <span className="muted">
            {pathName(index, place.id)} · {place.kind}
            {style ? ` · ${STYLE_WORDS[style]}` : ""}
          </span>
          <span className="spread" />
          <Link to={`?place=${encodeURIComponent(place.id)}&history=${encodeURIComponent(place.id)}`}>History</Link>
          <Link to={`/p/${id}/board?place=${encodeURIComponent(place.id)}`}>See on the board</Link>
        </div>
        {canEdit && (
          <div className="row" style={{ margin: "8px 0", flexWrap: "wrap" }}>
            {style ? (
              <MenuButton
                words="The list"
                choices={[
                  { words: "Start over with …", act: () => setDialog("begin") },
                  { words: "Another list style …", act: () => setDialog("style") },
                  { words: "As text …", act: () => setDialog("text") },
                  ...(inner > 0 ? [{ words: `Push down to ${plural(inner, "place")} …`, act: () => setDialog("push") }] : []),
                ]}
              />
            ) : (
              <Button size="small" type="primary" onClick={() => setDialog("begin")}>
                Add a permission list …
              </Button>
            )}
            <span className="divider" />
            {INSIDE[place.kind].map((kind) => (
              <Button key={kind} size="small" onClick={() => onAdd(kind)}>
                Add {kind} inside
              </Button>
            ))}
            {index.groups.size > 0 && (
              <Button size="small" onClick={() => setDialog("each")}>
                Personal folders …
              </Button>
            )}
            <MenuButton
              words="Move, remove"
              choices={[
                ...(place.kind === "pool"
                  ? []
                  : [
                      { words: "Another like it …", act: () => setDialog("copy") },
                      { words: "Move …", act: () => setDialog("move"), disabled: targets.length === 0 },
                    ]),
                { words: "Remove …", act: () => setDialog("remove"), danger: true },
              ]}
            />
          </div>
        )}
        {place.personal_folders && (
          <p className="said">
            <span>
              <PersonalWords place={place} />
            </span>
          </p>
        )}
        {place.folder_of && (
          <p className="said">
            <span>
              The folder of <Link to={`/p/${id}/people?who=${encodeURIComponent(place.folder_of)}`}>{whoName(index, place.folder_of)}</Link>
              {(outline.grants[place.id] ?? []).some((line) => line.who === place.folder_of)
                ? ""
                : ", who has left the group or was disabled: it is kept and closed"}
              .
            </span>
          </p>
        )}
        {stored.isError && <div className="trouble">{message(stored.error)}</div>}
        {!stored.data && !stored.isError && (
          <p className="muted" role="status">
            Reading its list …
          </p>
        )}
        {stored.data && style && <Heading place={place} stored={stored.data} put={put} />}
        {stored.data && style && <Layers place={place} stored={stored.data} put={put} />}
        {stored.data && style && <ReadInOrder stored={stored.data} />}
        {!style && (
          <p>
            Its permission list is not planned, so grants count at the share alone. <b>Add a permission list</b> to see what storage makes
            of them.
          </p>
        )}
        <h3>Granted here{lines.length > 0 ? ", in this order" : ""}</h3>
        {lines.length === 0 ? (
          <p className="muted">
            Nothing
            {(outline.standing[place.id]?.came.length ?? 0) > 0
              ? ` of its own; ${outline.standing[place.id]!.came.length} grants come down from above`
              : ""}
            . Grants are set on the board.
          </p>
        ) : (
          <div className="lines">
            {lines.map((line, number) => (
              <div className="l" key={line.who}>
                <span className="muted">{number + 1}</span>
                <span>
                  <Link to={`/p/${id}/board?view=grants&who=${encodeURIComponent(line.who)}&place=${encodeURIComponent(place.id)}`}>
                    {whoName(index, line.who)}
                  </Link>{" "}
                  {index.users.has(line.who) && <span className="muted">personal</span>}
                </span>
                <LevelTag level={line.level} long />
                <span>
                  <Button
                    size="small"
                    type="text"
                    aria-label={`Move ${whoName(index, line.who)} up`}
                    disabled={!canEdit || number === 0}
                    onClick={() => move(line.who, line.level, number - 1)}
                  >
                    ↑
                  </Button>
                  <Button
                    size="small"
                    type="text"
                    aria-label={`Move ${whoName(index, line.who)} down`}
                    disabled={!canEdit || number === lines.length - 1}
                    onClick={() => move(line.who, line.level, number + 1)}
                  >
                    ↓
                  </Button>
                </span>
              </div>
            ))}
          </div>
        )}
        <p className="muted">
          {outline.target.combining === "first"
            ? "The first line that concerns somebody decides."
            : `The order decides only where the first line wins; here ${outline.rule}.`}
        </p>
        {stored.data?.on_host && <OnHost place={place} there={stored.data.on_host} put={put} />}
        <div className="pair">
          <Field
            label="Name"
            named={{ kind: "place", itself: place.id, parent: place.parent ?? undefined }}
            value={place.name}
            disabled={!canEdit}
            check={(text) => notEmpty(text) ?? (text.includes("/") ? "A name cannot contain /." : null)}
            onKeep={(name) => put({ name })}
          />
          <Field label="Note" area value={place.note ?? ""} disabled={!canEdit} onKeep={(note) => put({ note })} />
        </div>
      </div>
      <Side label="What comes out">
        <Outcome place={place} stored={stored.data} />
      </Side>
      {dialog === "remove" && (
        <RemoveDialog
          name={place.name}
          edit={{ op: "remove-place", place: place.id }}
          onClose={(removed) => {
            close();
            if (removed) onGone();
          }}
        />
      )}
      {dialog === "move" && <MoveDialog place={place} targets={targets} onClose={close} onMove={(parent) => put({ parent })} />}
      {dialog === "copy" && (
        <CopyDialog
          kind="place"
          like={place.id}
          name={place.name}
          parent={place.parent ?? undefined}
          words={`Beside it, in ${pathName(index, place.parent!)}${inner > 0 ? `, with ${plural(inner, "place")} in it` : ""}.`}
          onClose={(made) => {
            close();
            if (made) onMade(made);
          }}
        />
      )}
      {dialog === "push" && <PushDown place={place} onClose={close} />}
      {dialog === "style" && <ChangeStyle place={place} present={style} onClose={close} />}
      {dialog === "begin" && <Begin place={place} onClose={close} />}
      {dialog === "each" && <OneEach place={place} onClose={close} />}
      {dialog === "text" && style && <AsText place={place} style={style} text={stored.data?.text ?? ""} onClose={close} />}
    </>
  );
}
