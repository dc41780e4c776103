import { useQuery } from "@tanstack/react-query";
import { Segmented, Select } from "antd";
import { useEffect, useMemo, useState, useSyncExternalStore } from "react";
import { Link } from "react-router";
import { api, ask, message, type Level, type Place } from "../api/client";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { few } from "../parts/plural";
import { shownName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import type { Stored } from "./Layers";
import { perms, whereWords, maskWords } from "./words";
import { whoLabel } from "./editors";

const SOURCES: Record<string, string> = {
  "-": "no line",
  o: "own grant",
  g: "group",
  a: "all",
  A: "administrator",
  x: "account disabled or expired",
  w: "stopped at a folder above",
  l: "the list",
};
const SHOWN = 12;

/** Who comes out with what, what the list cannot give, and what a new file will be. */
export function Outcome({ place, stored }: { place: Place; stored: Stored | undefined }) {
  const { id, outline, index, columns } = usePlan();
  const [all, setAll] = useState(false);
  const version = useSyncExternalStore(columns.subscribe, columns.getVersion);
  useEffect(() => columns.need([place.id]), [columns, place.id, version]);
  const rows = useMemo(() => {
    const order: Level[] = ["RW", "RO", "PT", "NA"];
    const found = index.usersByName.map((user) => ({ user, cell: columns.cell(place.id, index.number.get(user.id)) }));
    return found.filter((row) => row.cell).sort((a, b) => order.indexOf(a.cell!.level) - order.indexOf(b.cell!.level));
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the version says when the columns changed
  }, [columns, place.id, version, index]);
  const makers = rows.filter((row) => row.cell!.level === "RW").map((row) => row.user.id);
  const told = rows.filter((row) => !(row.cell!.level === "NA" && ["-", "x"].includes(row.cell!.source)));
  const shown = all ? rows : told.slice(0, SHOWN);
  const standing = outline.standing[place.id];
  const owner = standing && outline.users.find((user) => user.id === standing.owner);
  const ownerCell = owner && columns.cell(place.id, index.number.get(owner.id));
  return (
    <>
      <h2>What comes out here</h2>
      {!columns.has(place.id) && (
        <p className="muted" role="status">
          {columns.failed ? "The server does not answer." : "Asking …"}
        </p>
      )}
      <ul className="cells">
        {shown.map(({ user, cell }) => (
          <li key={user.id}>
            <span className="who">
              <Link to={`/p/${id}/board?who=${encodeURIComponent(user.id)}&place=${encodeURIComponent(place.id)}`}>{shownName(user)}</Link>
            </span>
            <span className="muted">{SOURCES[cell!.source]}</span>
            <LevelTag level={cell!.level} />
          </li>
        ))}
      </ul>
      {rows.length > 0 && (shown.length < rows.length || all) && (
        <button className="plain muted" onClick={() => setAll(!all)}>
          {all ? "Show fewer" : `${rows.length - shown.length} others${told.length <= SHOWN ? ": no access" : ""}`}
        </button>
      )}
      {standing?.style && owner && ownerCell && ownerCell.level !== "RW" && (
        <div className="trouble">
          <b>
            {shownName(owner)} owns this {place.kind}
          </b>{" "}
          but comes out with {WORDS[ownerCell.level]}: as owner, they can change {standing.style === "mode" ? "the mode" : "this list"}{" "}
          back.
        </div>
      )}
      {stored && stored.unsaid.length > 0 && (
        <>
          <h3>Not as granted</h3>
          <p className="muted">
            {standing?.style === "mode" && !(place.acl?.style === "mode" && place.acl.bits != null)
              ? "Mode bits have one owner, one group and the rest, so these cannot be had:"
              : "Lines by hand, or what this style cannot say, make these differ:"}
          </p>
          <ul className="cells">
            {stored.unsaid.slice(0, 12).map((cell) => (
              <li key={cell.subject}>
                <span className="who">
                  {whoName(index, cell.subject)} {index.groups.has(cell.subject) && <span className="muted">anybody in it alone</span>}
                </span>
                <span style={{ whiteSpace: "nowrap" }}>
                  granted <LevelTag level={cell.wanted} /> gets <LevelTag level={cell.gets} />
                </span>
              </li>
            ))}
          </ul>
          {stored.unsaid.length > 12 && <p className="muted">… and {stored.unsaid.length - 12} more.</p>}
        </>
      )}
      {stored && stored.personal.length > 0 && (
        <p className="muted">
          Named in the list, because their groups’ entries cannot say it: {stored.personal.map((who) => whoName(index, who)).join(", ")}.
        </p>
      )}
      {standing?.style && <NewThing place={place} first={makers[0]} />}
    </>
  );
}

const WAYS = [
  { value: "local", label: "over NFS or on the server", mode: 0o666, umask: 0o022 },
  { value: "group", label: "the same, umask 002", mode: 0o666, umask: 0o002 },
  { value: "smb", label: "over SMB, create mask 0664", mode: 0o664, umask: 0 },
];

/** What a file or folder will be that somebody makes here. */
function NewThing({ place, first }: { place: Place; first: string | undefined }) {
  const { id, outline, index } = usePlan();
  const [chosen, setChosen] = useState<string | null>(null);
  const [kind, setKind] = useState<"file" | "folder">("file");
  const [way, setWay] = useState("local");
  const who = chosen && outline.users.some((user) => user.id === chosen) ? chosen : first;
  const { mode, umask } = WAYS.find((one) => one.value === way)!;
  const found = useQuery({
    queryKey: ["of-plan", id, "forecast", place.id, who, kind, way, outline.revision],
    enabled: Boolean(who),
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/storage/forecast", {
          params: { path: { plan: id }, query: { place: place.id, who: who!, kind, mode: kind === "file" ? mode : mode | 0o111, umask } },
        }),
      ),
  });
  const posix = outline.standing[place.id]?.style !== "ordered";
  const names = (ids: string[]) =>
    ids.length === 0
      ? "nobody"
      : few(
          ids.map((user) => whoName(index, user)),
          8,
        );
  return (
    <>
      <h3>Something new here</h3>
      <div className="row" style={{ flexWrap: "wrap" }}>
        <Segmented
          size="small"
          value={kind}
          onChange={setKind}
          options={[
            { value: "file", label: "file" },
            { value: "folder", label: "folder" },
          ]}
        />
        <Select
          size="small"
          aria-label="Made by"
          showSearch={{ optionFilterProp: "label" }}
          style={{ minWidth: 150 }}
          value={who}
          placeholder="Made by"
          onChange={setChosen}
          options={index.usersByName.map((user) => ({ value: user.id, label: shownName(user) }))}
        />
        {posix && (
          <Select size="small" aria-label="How it is made" style={{ minWidth: 190 }} value={way} onChange={setWay} options={WAYS} />
        )}
      </div>
      {!who && <p className="muted">Nobody may add anything here.</p>}
      {found.isError && <div className="trouble">{message(found.error)}</div>}
      {found.data && (
        <div className="forecast">
          <div>
            owner <b>{whoLabel(index, found.data.owner)}</b>, group{" "}
            <b>
              {found.data.group === found.data.owner ? (
                <>
                  {index.users.get(found.data.group)?.name} <span className="muted">(their own)</span>
                </>
              ) : (
                whoLabel(index, found.data.group)
              )}
            </b>
          </div>
          <div className="mono">
            {found.data.lines.map((line, number) => (
              <div key={number}>
                {posix
                  ? `${line.says}:${line.who ? whoLabel(index, line.who) : ""}:${perms(line.mask)}`
                  : `${line.says === "deny" ? "refuse" : "allow"} ${whoLabel(index, line.who)}: ${maskWords(line.mask)}${kind === "folder" ? `, ${whereWords(line.flags)}` : ""}`}
              </div>
            ))}
          </div>
          <div>
            <LevelTag level="RW" /> can change it: {names(found.data.change)}
          </div>
          {found.data.read.length > 0 && (
            <div>
              <LevelTag level="RO" /> can only read it: {names(found.data.read)}
            </div>
          )}
        </div>
      )}
    </>
  );
}
