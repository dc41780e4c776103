import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, message, type Edit, type EffectOut } from "../api/client";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { LevelChange, LevelTag } from "./ArmSign";
import { Changes } from "./Changes";
import { few, plural } from "./plural";

const NAMED = 6;
type OffCell = EffectOut["more"][number];

/** How the server is asked what edits would change in a plan at a revision. */
export const effectOf = (plan: string, revision: number, edits: Edit[]) => ({
  queryKey: ["of-plan", plan, "effect", revision, edits],
  queryFn: () => ask(api.POST("/api/v1/plans/{plan}/effect", { params: { path: { plan } }, body: { revision, edits } })),
});

/** What edits would change. Nothing is asked as long as there are no edits, or they are just being done. */
export function useEffectOf(edits: Edit[], doing = false) {
  const { id, outline } = usePlan();
  const [asked, setAsked] = useState(outline.revision);
  if (!doing && asked !== outline.revision) setAsked(outline.revision);
  return useQuery({ ...effectOf(id, asked, edits), enabled: edits.length > 0 && !doing });
}

/** What edits would change, with what stands there until it is known. */
export function WouldChange({ effect, open = false }: { effect: ReturnType<typeof useEffectOf>; open?: boolean }) {
  if (effect.isError) return <div className="trouble">{message(effect.error)}</div>;
  return effect.data ? (
    <Effects effect={effect.data} open={open} />
  ) : (
    <p className="muted" role="status">
      Asking what it would change …
    </p>
  );
}

/** What edits change, or changed (`past`), besides the cell asked about: for people, for hosts, and for promises. Red where somebody gets more or less than is granted. */
export function Effects({
  effect,
  who,
  place,
  open = false,
  past = false,
}: {
  effect: EffectOut;
  who?: string;
  place?: string;
  open?: boolean;
  past?: boolean;
}) {
  const { index } = usePlan();
  const [all, setAll] = useState(open);
  const other = (cell: { subject: string; place: string }) => cell.subject !== who || cell.place !== place;
  const others = effect.total - effect.cells.filter((cell) => !other(cell)).length;
  const people =
    effect.people - (who && effect.total > others && !effect.cells.some((cell) => cell.subject === who && other(cell)) ? 1 : 0);
  const hosts = effect.hosts.length > 0;
  return (
    <div className="effects">
      <Off cells={effect.more.filter(other)} words={past ? "came to get more" : "would get more"} />
      <Off cells={effect.less.filter(other)} words={past ? "came to get less" : "would get less"} />
      {others > 0 && (
        <button className="plain" aria-expanded={all} onClick={() => setAll(!all)}>
          {all ? "▾" : "▸"} {`${who ? "also " : ""}${past ? "changed" : "changes"} `}
          {plural(others, "cell")} of {plural(people, "person", "people")}
        </button>
      )}
      {others === 0 && !hosts && (
        <span className="muted">{who ? "changes nothing else for anybody" : `${past ? "changed" : "changes"} nobody’s access`}</span>
      )}
      {hosts && (
        <ul className="hosts" aria-label="What changes by host">
          {effect.hosts.map((one) => (
            <li key={`${one.share} ${one.hosts}`}>
              <LevelChange before={one.before} after={one.after} />{" "}
              <span className={one.costs ? "late" : undefined}>
                {one.hosts} on {one.share}
                {one.people > 0 ? `: ${plural(one.people, "person", "people")} from there` : ""}
              </span>
            </li>
          ))}
        </ul>
      )}
      {effect.mends.length > 0 && (
        <span className="RW">
          {past ? "mended" : "mends"} {plural(effect.mends.length, "promise")}
        </span>
      )}
      {effect.breaks.map((words) => (
        <div key={words} className="late">
          {past ? "broke" : "would break"}: {words}
        </div>
      ))}
      {all && others > 0 && <Changes changed={effect} index={index} />}
    </div>
  );
}

/** Who would get more, or less, than is granted to them. */
function Off({ cells, words }: { cells: OffCell[]; words: string }) {
  const { index } = usePlan();
  if (cells.length === 0) return null;
  const people = [...new Set(cells.map((cell) => cell.subject))];
  return (
    <div className="late">
      {few(
        people.map((one) => (one === "guest" ? "guests" : whoName(index, one))),
        NAMED,
      )}{" "}
      {words} than is granted to them{words.startsWith("would") && " today"}
      {cells.length === 1 ? (
        <>
          {" "}
          on {pathName(index, cells[0]!.place)}: <LevelTag level={cells[0]!.gets} />
        </>
      ) : (
        <> in {plural(new Set(cells.map((cell) => cell.place)).size, "place")}</>
      )}
    </div>
  );
}
