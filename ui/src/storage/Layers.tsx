import { Button, Popover, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { components } from "../api/schema";
import type { Edit, Place } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { usePlan } from "../plan/PlanContext";
import { ModeEditor, OrderedEditor, PosixEditor, useWhos, whoLabel, type OrderedOwn, type PosixOwn } from "./editors";
import { maskLevel, maskWords, perms, permsLevel, STYLE_WORDS, whereWords } from "./words";

export type Stored = components["schemas"]["StoredPlace"];
export type LineOut = components["schemas"]["LineOut"];
type Layer = components["schemas"]["Layer"];

const INHERITS = { follows: "inherits all", adds: "inherits, with lines of its own", stops: "inheritance stops here" };

/** The path from the top as layers: what each place says, in full ink what reaches the chosen one, faded what stops on the way. */
export function Layers({ place, stored, put }: { place: Place; stored: Stored; put: (change: Partial<Place>, more?: Edit[]) => void }) {
  const { index, canEdit } = usePlan();
  const order = new Map<string, number>();
  stored.reading.forEach((line, number) => order.set(key(line), order.get(key(line)) ?? number + 1));
  return (
    <div className="layers">
      {stored.layers.map((layer, depth) => {
        const here = index.places.get(layer.place)!;
        const last = depth === stored.layers.length - 1;
        const lines = layer.lines.filter((line) => !(last && line.made === "hand"));
        const reaching = lines.filter((line) => !line.stops);
        const stopped = lines.filter((line) => line.stops);
        const foreign =
          depth > 0 && layer.style !== null && stored.layers[depth - 1]!.style !== null && stored.layers[depth - 1]!.style !== layer.style;
        return (
          <section key={layer.place} className={`layer ${last ? "chosen" : ""}`} aria-label={`${here.name}: ${layer.lines.length} lines`}>
            <header>
              <b>{here.name}</b>
              <span className="muted">{describe(layer, here, depth, foreign)}</span>
              <span className="spread" />
              {last && <Inheriting place={place} stored={stored} put={put} />}
              {last && layer.style === "ordered" && canEdit && (
                <Button
                  size="small"
                  onClick={() =>
                    put({
                      acl: {
                        style: "ordered",
                        entries: [
                          { type: "allow", who: "everyone", mask: 0x1200a9, flags: 3 },
                          ...(place.acl?.style === "ordered" ? place.acl.entries : []),
                        ],
                      },
                    })
                  }
                >
                  Add a line
                </Button>
              )}
            </header>
            {last && <ByHand place={place} layer={layer} stored={stored} put={put} />}
            {last && layer.style !== "mode" && reaching.length > 0 && <p className="caption">made of the grants that count here</p>}
            {!last && layer.style === "mode" && layer.lines.length > 0 && (
              <div className={`entry-line foot ${stopped.length > 0 ? "stopped" : ""}`}>
                <code>{layer.lines.map((line) => perms(line.mask)).join("")}</code>
                <span className="muted">
                  {MADE[layer.lines[0]!.made]}
                  {stopped[0] ? ` · ${stopped[0].stops}` : ""}
                </span>
              </div>
            )}
            {(last || layer.style !== "mode") &&
              reaching.map((line, number) => (
                <Line key={number} line={line} style={layer.style} number={order.get(key(line))} here={last} />
              ))}
            {layer.style !== "mode" && stopped.length > 0 && <Stopped lines={stopped} style={layer.style} />}
            {layer.style === null && <p className="muted">Its permission list is not planned. Grants count at the share alone.</p>}
            {layer.style !== null && lines.length === 0 && layer.by_hand === 0 && (
              <p className="muted">{layer.style === "ordered" ? "No lines of its own." : "Nothing of its own."}</p>
            )}
          </section>
        );
      })}
    </div>
  );
}

const key = (line: LineOut) => `${line.says} ${line.who} ${line.mask} ${line.said_on} ${line.made}`;

function describe(layer: Layer, here: Place, depth: number, foreign: boolean): string {
  const parts = [here.kind as string];
  if (layer.style && (depth === 0 || foreign)) parts.push(STYLE_WORDS[layer.style]);
  if (depth > 0 && layer.style)
    parts.push(
      foreign
        ? "another style, so nothing is inherited"
        : layer.style === "mode" && layer.by_hand > 0
          ? "a mode of its own"
          : INHERITS[layer.inheritance],
    );
  return parts.join(" · ");
}

/** The lines that somebody wrote here, in the editor that fits the style. */
function ByHand({ place, layer, stored, put }: { place: Place; layer: Layer; stored: Stored; put: (change: Partial<Place>) => void }) {
  const { canEdit } = usePlan();
  if (layer.style === "ordered")
    return (
      <OrderedEditor
        disabled={!canEdit}
        own={place.acl?.style === "ordered" ? place.acl : { style: "ordered", entries: [] }}
        onKeep={(own: OrderedOwn) => put({ acl: own })}
      />
    );
  if (layer.style === "posix")
    return (
      <PosixEditor
        disabled={!canEdit}
        own={place.acl?.style === "posix" ? place.acl : { style: "posix", access: [], default: null, setgid: false, sticky: false }}
        onKeep={(own: PosixOwn) => put({ acl: own })}
      />
    );
  if (layer.style === "mode") {
    const said = (tag: string) => stored.reading.find((line) => line.says === tag)?.mask ?? 0;
    const bits = said("user") * 64 + said("group") * 8 + said("other") + (stored.setgid ? 0o2000 : 0) + (stored.sticky ? 0o1000 : 0);
    const given = place.acl?.style === "mode" && place.acl.bits != null;
    return <ModeEditor disabled={!canEdit} bits={bits} given={given} onKeep={(next) => put({ acl: { style: "mode", bits: next } })} />;
  }
  return null;
}

const MADE: Record<LineOut["made"], string> = { hand: "by hand", grant: "grant", pass: "way to what lies deeper", computed: "computed" };

function Line({ line, style, number, here }: { line: LineOut; style: Layer["style"]; number: number | undefined; here: boolean }) {
  const { id, index } = usePlan();
  const stopped = Boolean(line.stops);
  const who = line.who
    ? whoLabel(index, line.who)
    : { user: "Owner", group: "Owning group", other: "Everybody else", mask: "Mask" }[line.says as string];
  const level = style === "ordered" ? maskLevel(line.mask) : permsLevel(line.mask);
  const deny = line.says === "deny";
  return (
    <div className={`entry-line ${stopped ? "stopped" : ""}`}>
      <span className={deny ? "NA" : "RW"} style={{ fontWeight: 600 }}>
        {style === "ordered" ? (deny ? "refuse" : "allow") : style === "mode" ? "" : line.says}
      </span>
      <span>
        <b>{who}</b>
      </span>
      <span>
        <span className={`tag ${deny ? "NA" : level}`}>{style === "ordered" ? maskWords(line.mask) : perms(line.mask)}</span>
      </span>
      <span>{style === "ordered" ? whereWords(line.flags) : ""}</span>
      <span className="muted right">
        {stopped ? (
          line.stops
        ) : (
          <>
            {line.made === "grant" && here ? (
              <Link to={`/p/${id}/board?view=grants&who=${encodeURIComponent(line.who)}&place=${encodeURIComponent(line.said_on)}`}>
                grant
              </Link>
            ) : (
              MADE[line.made]
            )}
            {number && style === "ordered" ? ` · line ${number}` : ""}
          </>
        )}
      </span>
    </div>
  );
}

/** Lines that do not reach the chosen place: each with the reason, or, where there are many, in one line until asked for. */
function Stopped({ lines, style }: { lines: LineOut[]; style: Layer["style"] }) {
  const { index } = usePlan();
  const [open, setOpen] = useState(lines.length <= 2);
  if (open)
    return (
      <>
        {lines.map((line, number) => (
          <Line key={number} line={line} style={style} number={undefined} here={false} />
        ))}
      </>
    );
  const names = [...new Set(lines.map((line) => (line.who ? whoLabel(index, line.who) : line.says)))];
  return (
    <div className="entry-line foot stopped">
      <button className="plain" onClick={() => setOpen(true)}>
        ▸ {lines.length} lines stop here: {names.slice(0, 4).join(", ")}
        {names.length > 4 ? " …" : ""}
      </button>
    </div>
  );
}

/** All lines in the order in which they are read, in one sentence. */
export function ReadInOrder({ stored }: { stored: Stored }) {
  const { index } = usePlan();
  if (stored.layers.at(-1)?.style !== "ordered") return null;
  return (
    <p className="in-order">
      <b>Read in this order:</b>{" "}
      {stored.reading.map((line, number) => (
        <span key={number}>
          {number + 1} {whoLabel(index, line.who)}{" "}
          {line.says === "deny" ? <span className="NA">✕ {maskWords(line.mask)}</span> : <LevelTag level={maskLevel(line.mask)} />}
          {line.flags & 8 ? " (below only)" : ""} ·{" "}
        </span>
      ))}
      nobody else
    </p>
  );
}

/** Owner, owning group, and what carries grants. */
export function Heading({ place, stored, put }: { place: Place; stored: Stored; put: (change: Partial<Place>, more?: Edit[]) => void }) {
  const { index, outline, canEdit } = usePlan();
  const layer = stored.layers.at(-1)!;
  const users = useWhos();
  const groups = [{ value: "root", label: "root" }, ...(users[0] as { options: { value: string; label: string }[] }).options];
  const people = [{ value: "root", label: "root" }, ...(users[1] as { options: { value: string; label: string }[] }).options];
  const comes = (value: string) => ({ value: "", label: `as above: ${value}` });
  return (
    <div className="heading">
      <label>
        owner{" "}
        <Select
          size="small"
          disabled={!canEdit}
          showSearch={{ optionFilterProp: "label" }}
          value={place.owner ?? ""}
          options={[comes(whoLabel(index, layer.owner)), ...people]}
          onChange={(owner) => put({ owner: owner || null })}
          popupMatchSelectWidth={230}
        />
      </label>
      <label>
        group{" "}
        <Select
          aria-label="Owning group"
          size="small"
          disabled={!canEdit}
          showSearch={{ optionFilterProp: "label" }}
          value={place.group ?? ""}
          options={[comes(whoLabel(index, layer.group)), ...groups]}
          onChange={(group) => put({ group: group || null })}
          popupMatchSelectWidth={230}
        />
      </label>
      <label>
        grants enforced by{" "}
        <Select<NonNullable<Place["enforced_by"]> | "">
          size="small"
          style={{ width: 164 }}
          disabled={!canEdit}
          value={place.enforced_by ?? ""}
          onChange={(enforcer) => put({ enforced_by: enforcer || null })}
          options={[
            { value: "" as const, label: `as above: ${CARRIERS[outline.standing[place.id]?.enforced_by ?? "share"]}` },
            { value: "share" as const, label: CARRIERS.share },
            { value: "storage" as const, label: CARRIERS.storage },
            { value: "both" as const, label: CARRIERS.both },
          ]}
          popupMatchSelectWidth={200}
        />
      </label>
    </div>
  );
}

/** Whether anything comes down to the chosen place, to be cut or let down again. */
function Inheriting({ place, stored, put }: { place: Place; stored: Stored; put: (change: Partial<Place>, more?: Edit[]) => void }) {
  const { outline, canEdit } = usePlan();
  const layer = stored.layers.at(-1)!;
  const keep = () => {
    const arriving = stored.reading.filter((line) => line.made === "hand" && line.said_on !== place.id);
    const came = outline.standing[place.id]?.came ?? [];
    const grants = came.map((line): Edit => ({ op: "set-grant", place: place.id, who: line.who, level: line.level, at: null }));
    if (layer.style === "ordered") {
      const own = place.acl?.style === "ordered" ? place.acl.entries : [];
      put(
        {
          inheritance_stops: true,
          acl: {
            style: "ordered",
            entries: [
              ...own,
              ...arriving.map((line) => ({ type: line.says as "allow" | "deny", who: line.who, mask: line.mask, flags: line.flags & 15 })),
            ],
          },
        },
        grants,
      );
    } else if (layer.style === "posix") {
      const hand = (lines: LineOut[]) =>
        lines
          .filter((line) => line.made === "hand")
          .map((line) => ({ tag: line.says as "user" | "group" | "mask" | "other", who: line.who, perms: line.mask }));
      put(
        {
          inheritance_stops: true,
          acl: {
            style: "posix",
            access: hand(stored.reading),
            default: stored.default.length > 0 ? hand(stored.default) : null,
            setgid: stored.setgid,
            sticky: stored.sticky,
          },
        },
        grants,
      );
    } else put({ inheritance_stops: true }, grants);
  };
  if (!canEdit || place.kind === "pool" || !layer.style) return null;
  if (place.inheritance_stops)
    return (
      <Button size="small" onClick={() => put({ inheritance_stops: false })}>
        Inherit again
      </Button>
    );
  return (
    <Popover
      trigger="click"
      content={
        <div className="row" style={{ flexDirection: "column", alignItems: "stretch" }}>
          <span>Nothing from above will count here any more.</span>
          <Button size="small" onClick={keep}>
            Stop, and keep what arrives as lines and grants of its own
          </Button>
          <Button size="small" danger onClick={() => put({ inheritance_stops: true })}>
            Stop, and drop what arrives
          </Button>
        </div>
      }
    >
      <Button size="small">Stop inheritance here …</Button>
    </Popover>
  );
}

export const CARRIERS = { share: "the share", storage: "the list", both: "share and list" } as const;
