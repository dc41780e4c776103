import { Button, Checkbox, Drawer, Input, Segmented, Select } from "antd";
import { useEffect, useRef, useState } from "react";
import { api, ask, message, Refusal, type ImportBody, type Layout, type Preview } from "../api/client";
import { Effects } from "../parts/Effects";
import { plural } from "../parts/plural";
import { Source, toBase64 } from "../parts/Source";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { Noticed } from "./Noticed";
import { ServerSource } from "./ServerSource";
import { TableReading } from "./TableReading";
import { UnknownNames, type Answers } from "./UnknownNames";
import "./transfer.css";

type Kind = ImportBody["kind"];
const HELP: Record<Kind, string> = {
  matrix:
    "Who gets what where, as you have it: people in rows or in columns, or a line for each; names in any order, paths of any form, words of six languages. How it was read is shown, and can be said otherwise.",
  people:
    "The first row names the columns: name, full name, kind, uid, primary group, groups, enabled, expires, sign-in names, note. Or: group, gid, members. Or: group, member.",
  needs:
    "What people should be able to do, whatever the plan gives them: a table as for Matrix, whose cells say change, read, must not, any or nothing; a dash takes a need away. Findings then say what is missing and what is too much.",
  promises:
    "The first row names the columns: who, but, must (must or must not), act (see, read or write), place, over, note. As Export writes them.",
  accounts: "A Linux host's passwd file, and its group file. Numbers are kept; accounts outside the range are left out and listed.",
  getfacl:
    "What getfacl -R prints of a folder of the server: owners, groups, flags and POSIX lists. Folders where they change become places; the rest is counted.",
  find: "What find DIR -printf '%y %m %u %g %p\\n' prints (or \\0 for odd names): owners, groups and mode bits. Folders where they change become places; the rest is counted.",
  nfs4: "What nfs4_getfacl prints, each list under its “# file: ” line. Folders where the list changes become places; the rest is counted.",
  server:
    "A Linux file server whole: accounts, lists, shares over SMB with their includes, exports. From files copied from it, or read over the way on which the plan goes there. What is not understood is listed, and whether somebody may get more or less by it.",
  plan: "A plan file that Yard Gate wrote, or that follows its documented format. This plan becomes what the file says.",
};

const LISTINGS: { value: Kind; label: string }[] = [
  { value: "getfacl", label: "POSIX lists (getfacl)" },
  { value: "nfs4", label: "ordered lists (nfs4_getfacl)" },
  { value: "find", label: "mode bits (find)" },
];

/** Take in a table, a host's accounts or a plan file: shown as what it would do, then kept as one change. text: what was pasted elsewhere. */
export default function TakeIn({ kind: begun = "matrix", text, onClose }: { kind?: Kind; text?: string; onClose: () => void }) {
  const { id, outline, index, take } = usePlan();
  const [kind, setKind] = useState<Kind>(begun);
  const [first, setFirst] = useState<Uint8Array | null>(() => (text ? new TextEncoder().encode(text) : null));
  const [second, setSecond] = useState<Uint8Array | null>(null);
  const [make, setMake] = useState<Answers>({});
  const [layout, setLayout] = useState<Layout | null>(null);
  const [clearBlanks, setClearBlanks] = useState(false);
  const [range, setRange] = useState({ lowest: "1000", highest: "60000" });
  const [privateGroups, setPrivateGroups] = useState(false);
  const [at, setAt] = useState<string | null>(null);
  const [onlyFolders, setOnlyFolders] = useState(false);
  const [files, setFiles] = useState<{ name: string; content: string }[]>([]);
  const [tops, setTops] = useState<string | null>(null);
  const [preview, setPreview] = useState<Preview | null>(null);
  const [trouble, setTrouble] = useState<{ title: string; text: string } | null>(null);
  const [busy, setBusy] = useState(false);

  const body = (made: Answers, laid = layout): ImportBody => ({
    revision: outline.revision,
    kind,
    content: toBase64(first ?? new Uint8Array()),
    second: toBase64(second ?? new Uint8Array()),
    make: made,
    layout: laid,
    clear_blanks: clearBlanks,
    lowest: Number(range.lowest) || 0,
    highest: Number(range.highest) || 0,
    private_groups: privateGroups,
    at,
    only_folders: onlyFolders,
    files: kind === "server" ? files : [],
    tops: kind === "server" && tops !== null ? tops.split(/[,\s]+/).filter(Boolean) : [],
  });
  const given = kind === "server" ? files.length > 0 || tops !== null : first !== null;
  const listing = LISTINGS.some((one) => one.value === kind);
  const run = async (work: () => Promise<void>) => {
    setBusy(true);
    setTrouble(null);
    try {
      await work();
    } catch (error) {
      setTrouble({ title: error instanceof Refusal ? error.problem.title : "Not imported", text: message(error) });
    } finally {
      setBusy(false);
    }
  };
  const look = (made = make, laid = layout) =>
    run(async () =>
      setPreview(await ask(api.POST("/api/v1/plans/{plan}/import/preview", { params: { path: { plan: id } }, body: body(made, laid) }))),
    );
  const asked = useRef(false);
  useEffect(() => {
    if (!text || asked.current) return;
    asked.current = true;
    void look();
  });
  const keep = () =>
    run(async () => {
      await take(
        await ask(api.POST("/api/v1/plans/{plan}/import", { params: { path: { plan: id } }, body: { ...body(make), tag: preview?.tag } })),
      );
      onClose();
    });
  const forget = () => {
    setPreview(null);
    setLayout(null);
    setTrouble(null);
  };
  const choose = (names: string[], answer: string | undefined) => {
    const next = Object.fromEntries([
      ...Object.entries(make).filter(([name]) => !names.includes(name)),
      ...(answer ? names.map((name) => [name, answer] as const) : []),
    ]);
    setMake(next);
    void look(next);
  };

  return (
    <Drawer
      title="Import"
      open
      onClose={onClose}
      size={720}
      footer={
        <div className="row">
          <span className="spread muted">{preview && `${plural(preview.edits, "edit")}, one step to undo`}</span>
          <Button onClick={() => void look()} loading={busy} disabled={!given}>
            {preview ? "Preview again" : "Preview"}
          </Button>
          <Button type="primary" disabled={!preview || preview.edits === 0 || trouble !== null} loading={busy} onClick={() => void keep()}>
            Import
          </Button>
        </div>
      }
    >
      <Segmented
        block
        value={listing ? "getfacl" : kind}
        onChange={(value) => {
          setKind(value as Kind);
          setMake({});
          forget();
        }}
        options={[
          { value: "matrix", label: "Matrix" },
          { value: "people", label: "People" },
          { value: "needs", label: "Needs" },
          { value: "promises", label: "Promises" },
          { value: "accounts", label: "Accounts" },
          { value: "getfacl", label: "Folders" },
          { value: "server", label: "File server" },
          { value: "plan", label: "Plan file" },
        ]}
      />
      {listing && (
        <Segmented
          size="small"
          style={{ marginTop: 8 }}
          value={kind}
          onChange={(value) => {
            setKind(value);
            setMake({});
            forget();
          }}
          options={LISTINGS}
        />
      )}
      <p className="muted">{HELP[kind]}</p>
      {kind === "server" && (
        <ServerSource
          files={files}
          tops={tops}
          onFiles={(next) => {
            setFiles(next);
            setTops(null);
            forget();
          }}
          onTops={(next) => {
            setTops(next);
            setFiles([]);
            forget();
          }}
        />
      )}
      {kind !== "server" && (
        <Source
          key={kind}
          label={
            kind === "accounts"
              ? "passwd"
              : kind === "plan"
                ? "Plan file"
                : listing
                  ? "The listing"
                  : "Table (CSV, a workbook, or copied from a spreadsheet)"
          }
          value={first}
          onChange={(bytes) => {
            setFirst(bytes);
            forget();
          }}
        />
      )}
      {kind === "accounts" && (
        <>
          <Source
            label="group"
            value={second}
            onChange={(bytes) => {
              setSecond(bytes);
              forget();
            }}
          />
          <div className="row" style={{ marginBottom: 10 }}>
            accounts from{" "}
            <Input
              size="small"
              aria-label="Lowest number"
              style={{ width: 80 }}
              value={range.lowest}
              onChange={(event) => {
                setRange({ ...range, lowest: event.target.value });
                forget();
              }}
            />
            to{" "}
            <Input
              size="small"
              aria-label="Highest number"
              style={{ width: 80 }}
              value={range.highest}
              onChange={(event) => {
                setRange({ ...range, highest: event.target.value });
                forget();
              }}
            />
            <Checkbox
              checked={privateGroups}
              onChange={(event) => {
                setPrivateGroups(event.target.checked);
                forget();
              }}
            >
              private groups too
            </Checkbox>
          </div>
        </>
      )}
      {listing && (
        <div className="row" style={{ marginBottom: 10, flexWrap: "wrap" }}>
          its topmost folder is{" "}
          <Select
            size="small"
            aria-label="The place that the topmost folder is"
            showSearch={{ optionFilterProp: "label" }}
            style={{ minWidth: 220 }}
            value={at ?? ""}
            onChange={(value) => {
              setAt(value || null);
              forget();
            }}
            options={[
              { value: "", label: "a new pool" },
              ...outline.places
                .map((place) => ({ value: place.id, label: pathName(index, place.id) }))
                .sort((a, b) => a.label.localeCompare(b.label)),
            ]}
          />
          {kind !== "find" && (
            <Checkbox
              checked={onlyFolders}
              onChange={(event) => {
                setOnlyFolders(event.target.checked);
                forget();
              }}
            >
              everything in it is a folder
            </Checkbox>
          )}
        </div>
      )}
      {kind === "matrix" && (
        <Checkbox
          checked={clearBlanks}
          onChange={(event) => {
            setClearBlanks(event.target.checked);
            forget();
          }}
        >
          An empty cell takes away what is granted now
        </Checkbox>
      )}
      {trouble && (
        <div className="trouble" role="alert">
          <b>{trouble.title}</b>
          <br />
          {trouble.text}
        </div>
      )}
      {preview && (
        <section aria-label="What it would do" style={{ marginTop: 14 }}>
          {preview.table && (
            <TableReading
              table={preview.table}
              needs={kind === "needs"}
              onLayout={(next) => {
                setLayout(next);
                void look(make, next);
              }}
            />
          )}
          <UnknownNames unknown={preview.unknown} make={make} kept={listing || kind === "server"} onChoose={choose} />
          <h3 style={{ fontSize: 13 }}>
            {preview.edits === 0 ? "Nothing in it that the plan does not have already" : `It would make ${plural(preview.edits, "edit")}`}
          </h3>
          {preview.edits > 0 && (
            <ul className="words" tabIndex={0}>
              {preview.words.map((line, number) => (
                <li key={number}>{line}</li>
              ))}
              {preview.edits > preview.words.length && (
                <li className="muted">… and {(preview.edits - preview.words.length).toLocaleString()} more</li>
              )}
            </ul>
          )}
          <Noticed preview={preview} />
          <h3 style={{ fontSize: 13 }}>Whose access changes</h3>
          <Effects effect={preview.effect} open />
        </section>
      )}
    </Drawer>
  );
}
