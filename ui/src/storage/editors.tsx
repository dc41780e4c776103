import { Button, Checkbox, Input, Popover, Select } from "antd";
import { useMemo, useState, type DragEvent } from "react";
import type { Place } from "../api/client";
import { pickName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { BITS, KNOWN, letters, maskLevel, maskWords, perms, WHERE, whereWords } from "./words";

type Own = NonNullable<Place["acl"]>;
export type OrderedOwn = Extract<Own, { style: "ordered" }>;
export type PosixOwn = Extract<Own, { style: "posix" }>;
export type ModeOwn = Extract<Own, { style: "mode" }>;
type Entry = OrderedOwn["entries"][number];
type PosixEntry = PosixOwn["access"][number];

/** Everybody who can be named, groups first; found by typing. */
export function useWhos(special: { value: string; label: string }[] = []) {
  const { index } = usePlan();
  return useMemo(() => {
    const groups = index.groupsByName.map((group) => ({ value: group.id, label: pickName(index, group.id) }));
    const users = index.usersByName.map((user) => ({ value: user.id, label: pickName(index, user.id) }));
    return [
      ...(special.length ? [{ label: "Special", options: special }] : []),
      { label: "Groups", options: groups },
      { label: "People and services", options: users },
    ];
  }, [index, special]);
}

const ORDERED_SPECIAL = [
  { value: "owner@", label: "Owner" },
  { value: "group@", label: "Owning group" },
  { value: "everyone", label: "Everyone" },
];
const search = { optionFilterProp: "label" } as const;

/** The entries by hand of an ordered list, edited where they stand; moved by dragging, or with Alt and the arrow keys. */
export function OrderedEditor({ own, disabled, onKeep }: { own: OrderedOwn; disabled: boolean; onKeep: (own: OrderedOwn) => void }) {
  const { index } = usePlan();
  const whos = useWhos(ORDERED_SPECIAL);
  const [dragged, setDragged] = useState<number | null>(null);
  const entries = own.entries;
  const put = (next: Entry[]) => onKeep({ ...own, entries: next });
  const change = (at: number, part: Partial<Entry>) => put(entries.map((entry, number) => (number === at ? { ...entry, ...part } : entry)));
  const move = (from: number, to: number) => {
    if (to < 0 || to >= entries.length || from === to) return;
    const next = [...entries];
    next.splice(to, 0, ...next.splice(from, 1));
    put(next);
  };
  return (
    <>
      {entries.map((entry, at) => (
        // eslint-disable-next-line jsx-a11y/no-static-element-interactions -- buttons of the line move it, too
        <div
          key={`${at} ${entry.who} ${entry.type}`}
          className={`entry-line edit ${dragged === at ? "dragged" : ""}`}
          draggable={!disabled}
          onDragStart={(event: DragEvent) => {
            setDragged(at);
            event.dataTransfer.effectAllowed = "move";
          }}
          onDragOver={(event) => event.preventDefault()}
          onDrop={() => {
            if (dragged !== null) move(dragged, at);
            setDragged(null);
          }}
          onDragEnd={() => setDragged(null)}
          onKeyDown={(event) => {
            if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
              event.preventDefault();
              move(at, at + (event.key === "ArrowUp" ? -1 : 1));
            }
          }}
        >
          <span className="grip" aria-hidden="true">
            ⠿
          </span>
          <Select
            size="small"
            aria-label={`Line ${at + 1}: allow or refuse`}
            disabled={disabled}
            value={entry.type}
            onChange={(type) => change(at, { type })}
            options={[
              { value: "allow", label: "allow" },
              { value: "deny", label: "refuse" },
            ]}
            className={entry.type === "deny" ? "NA" : "RW"}
          />
          <Select
            size="small"
            aria-label={`Line ${at + 1}: who`}
            disabled={disabled}
            showSearch={search}
            value={entry.who}
            onChange={(who) => change(at, { who })}
            options={whos}
            labelRender={() => whoLabel(index, entry.who)}
            popupMatchSelectWidth={240}
          />
          <RightsSelect label={`Line ${at + 1}: rights`} mask={entry.mask} disabled={disabled} onChange={(mask) => change(at, { mask })} />
          <Select
            size="small"
            aria-label={`Line ${at + 1}: where it counts`}
            disabled={disabled}
            value={entry.flags & 15}
            onChange={(flags) => change(at, { flags })}
            labelRender={() => whereWords(entry.flags)}
            options={WHERE.map((where) => ({ value: where.flags, label: where.words }))}
            popupMatchSelectWidth={260}
          />
          <span className="tools2">
            <Button
              size="small"
              type="text"
              aria-label={`Move line ${at + 1} up`}
              disabled={disabled || at === 0}
              onClick={() => move(at, at - 1)}
            >
              ↑
            </Button>
            <Button
              size="small"
              type="text"
              aria-label={`Move line ${at + 1} down`}
              disabled={disabled || at === entries.length - 1}
              onClick={() => move(at, at + 1)}
            >
              ↓
            </Button>
            <Button
              size="small"
              type="text"
              aria-label={`Remove line ${at + 1}`}
              disabled={disabled}
              onClick={() => put(entries.filter((_, number) => number !== at))}
            >
              ✕
            </Button>
          </span>
        </div>
      ))}
    </>
  );
}

export function whoLabel(index: Parameters<typeof whoName>[0], who: string): string {
  return who === "owner@" ? "Owner" : who === "group@" ? "Owning group" : who === "root" ? "root" : whoName(index, who);
}

function RightsSelect({
  label,
  mask,
  disabled,
  onChange,
}: {
  label: string;
  mask: number;
  disabled: boolean;
  onChange: (mask: number) => void;
}) {
  const [open, setOpen] = useState(false);
  const [own, setOwn] = useState(mask);
  return (
    <span className="rights">
      <Select
        size="small"
        aria-label={label}
        disabled={disabled}
        value={KNOWN.some((known) => known.mask === mask) ? mask : 0}
        onChange={(value) => {
          if (value === 0) {
            setOwn(mask);
            setOpen(true);
          } else onChange(value);
        }}
        options={[...KNOWN.map((known) => ({ value: known.mask, label: known.words })), { value: 0, label: "single rights …" }]}
        labelRender={() => <span className={maskLevel(mask)}>{maskWords(mask)}</span>}
        popupMatchSelectWidth={180}
      />
      <Popover
        open={open}
        onOpenChange={(next) => {
          if (!next) setOpen(false);
        }}
        trigger="click"
        title="Single rights"
        content={
          <div style={{ width: 430 }}>
            <div className="bits">
              {BITS.map(([bit, letter, words]) => (
                <Checkbox key={bit} checked={(own & bit) !== 0} onChange={(event) => setOwn(event.target.checked ? own | bit : own & ~bit)}>
                  <code>{letter}</code> {words}
                </Checkbox>
              ))}
            </div>
            <div className="row" style={{ marginTop: 8 }}>
              <code className="spread">{letters(own) || "none"}</code>
              <Button size="small" onClick={() => setOpen(false)}>
                Leave as it was
              </Button>
              <Button
                size="small"
                type="primary"
                disabled={own === 0}
                onClick={() => {
                  setOpen(false);
                  onChange(own);
                }}
              >
                Take these
              </Button>
            </div>
          </div>
        }
      >
        <span />
      </Popover>
    </span>
  );
}

const POSIX_SPECIAL = [
  { value: "other:", label: "Everybody else" },
  { value: "mask:", label: "Mask" },
  { value: "user:", label: "Owner" },
  { value: "group:", label: "Owning group" },
];

/** A POSIX list by hand: what counts here beside what is handed to new things. */
export function PosixEditor({ own, disabled, onKeep }: { own: PosixOwn; disabled: boolean; onKeep: (own: PosixOwn) => void }) {
  const { index } = usePlan();
  const whos = useWhos(POSIX_SPECIAL);
  const keys = [...new Set([...own.access, ...(own.default ?? [])].map((entry) => `${entry.tag}:${entry.who}`))];
  const find = (entries: PosixEntry[] | null | undefined, key: string) => entries?.find((entry) => `${entry.tag}:${entry.who}` === key);
  const split = (key: string): Pick<PosixEntry, "tag" | "who"> => ({
    tag: key.slice(0, key.indexOf(":")) as PosixEntry["tag"],
    who: key.slice(key.indexOf(":") + 1),
  });
  const set = (entries: PosixEntry[], key: string, bits: number | null) => {
    const rest = entries.filter((entry) => `${entry.tag}:${entry.who}` !== key);
    return bits === null ? rest : [...rest, { ...split(key), perms: bits }];
  };
  const name = (key: string) => POSIX_SPECIAL.find((special) => special.value === key)?.label ?? whoName(index, split(key).who);
  const boxes = (key: string, entry: PosixEntry | undefined, part: "access" | "default") => (
    <span className="rwx">
      {(
        [
          ["r", 4, "read"],
          ["w", 2, "write"],
          ["x", 1, "enter"],
        ] as const
      ).map(([letter, bit, words]) => (
        <Checkbox
          key={letter}
          disabled={disabled}
          checked={((entry?.perms ?? 0) & bit) !== 0}
          aria-label={`${name(key)}, ${part === "access" ? "here" : "new things"}: ${words}`}
          onChange={(event) =>
            onKeep({
              ...own,
              [part]: set(
                (part === "access" ? own.access : own.default) ?? [],
                key,
                ((entry?.perms ?? 0) & ~bit) | (event.target.checked ? bit : 0),
              ),
            })
          }
        >
          {letter}
        </Checkbox>
      ))}
      {!entry && <span className="muted">{part === "access" ? "not said here" : "not handed on"}</span>}
    </span>
  );
  return (
    <>
      {keys.length > 0 && (
        <div className="entry-line posix headline muted">
          <span />
          <span>who</span>
          <span>this folder</span>
          <span>handed to new things</span>
        </div>
      )}
      {keys.map((key) => (
        <div className="entry-line posix" key={key}>
          <Button
            size="small"
            type="text"
            aria-label={`Remove the entry of ${name(key)}`}
            disabled={disabled}
            onClick={() =>
              onKeep({ ...own, access: set(own.access, key, null), default: own.default ? set(own.default, key, null) : own.default })
            }
          >
            ✕
          </Button>
          <span>
            {name(key)} <span className="muted">{split(key).who ? split(key).tag : ""}</span>
          </span>
          {boxes(key, find(own.access, key), "access")}
          {boxes(key, find(own.default, key), "default")}
        </div>
      ))}
      {!disabled && (
        <div className="entry-line foot">
          <Select
            size="small"
            aria-label="Add an entry"
            showSearch={search}
            value={null}
            placeholder="Add an entry for …"
            style={{ width: 200 }}
            options={whos}
            onChange={(value: string | null) => {
              if (value) {
                const key = value.includes(":") ? value : `${index.users.has(value) ? "user" : "group"}:${value}`;
                if (!find(own.access, key)) onKeep({ ...own, access: set(own.access, key, 5) });
              }
            }}
          />
          <Checkbox checked={own.setgid} onChange={(event) => onKeep({ ...own, setgid: event.target.checked })}>
            setgid: new things get this group
          </Checkbox>
          <Checkbox checked={own.sticky} onChange={(event) => onKeep({ ...own, sticky: event.target.checked })}>
            sticky: only owners delete
          </Checkbox>
        </div>
      )}
    </>
  );
}

/** Mode bits: as boxes, as octal digits and as ls(1) shows them. */
export function ModeEditor({
  bits,
  given,
  disabled,
  onKeep,
}: {
  bits: number;
  given: boolean;
  disabled: boolean;
  onKeep: (bits: number | null) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const octal = bits.toString(8).padStart(4, "0");
  const good = text === null || /^[0-7]{1,4}$/.test(text);
  const keep = () => {
    if (text !== null && good) onKeep(parseInt(text, 8));
    setText(null);
  };
  const shown = `${perms(bits >> 6)}${perms(bits >> 3)}${perms(bits)}`.split("");
  if (bits & 0o2000) shown[5] = bits & 0o10 ? "s" : "S";
  if (bits & 0o1000) shown[8] = bits & 0o1 ? "t" : "T";
  return (
    <div className="mode">
      {(
        [
          ["Owner", 6],
          ["Owning group", 3],
          ["Everybody else", 0],
        ] as const
      ).map(([who, shift]) => (
        <div className="entry-line posix" key={who}>
          <span />
          <span>{who}</span>
          <span className="rwx">
            {(
              [
                ["r", 4],
                ["w", 2],
                ["x", 1],
              ] as const
            ).map(([letter, bit]) => (
              <Checkbox
                key={letter}
                disabled={disabled}
                aria-label={`${who}: ${letter}`}
                checked={((bits >> shift) & bit) !== 0}
                onChange={() => onKeep(bits ^ (bit << shift))}
              >
                {letter}
              </Checkbox>
            ))}
          </span>
          <span />
        </div>
      ))}
      <div className="entry-line foot">
        <label className="row">
          octal{" "}
          <Input
            size="small"
            aria-label="Mode in octal"
            style={{ width: 70 }}
            disabled={disabled}
            status={good ? undefined : "error"}
            value={text ?? octal}
            onChange={(event) => setText(event.target.value)}
            onBlur={keep}
            onPressEnter={keep}
            onKeyDown={(event) => event.key === "Escape" && setText(null)}
          />
        </label>
        <code>{shown.join("")}</code>
        <Checkbox disabled={disabled} checked={(bits & 0o2000) !== 0} onChange={() => onKeep(bits ^ 0o2000)}>
          setgid
        </Checkbox>
        <Checkbox disabled={disabled} checked={(bits & 0o1000) !== 0} onChange={() => onKeep(bits ^ 0o1000)}>
          sticky
        </Checkbox>
        <span className="spread" />
        {given ? (
          <Button size="small" disabled={disabled} onClick={() => onKeep(null)}>
            Leave it to the grants
          </Button>
        ) : (
          <span className="muted">made of the grants; a change here sets it by hand</span>
        )}
      </div>
      {!good && <div className="trouble">A mode is up to four digits from 0 to 7, as 2770.</div>}
    </div>
  );
}
