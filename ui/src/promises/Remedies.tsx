import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type Edit, type EffectOut, type Level, type Promised } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { Changes } from "../parts/Changes";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

/** What would repair a cell: edits, the best first, each with all that it changes besides. */
export function Remedies({ who, place, low, high, over = null, seen }: { who: string; place: string; low: Level; high: Level; over?: Promised["over"]; seen?: boolean }) {
  const { id, canEdit, edit } = usePlan();
  const [busy, setBusy] = useState<number | null>(null);
  const found = useQuery({
    queryKey: ["of-plan", id, "remedies", who, place, low, high, over, seen],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/remedies", { params: { path: { plan: id }, query: { who, place, low, high, over: over ?? undefined, seen } } })),
  });
  const keep = async (number: number, edits: Edit[]) => {
    setBusy(number);
    await edit(edits);
    setBusy(null);
  };
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data) return <p className="muted" role="status">Looking for what would repair it …</p>;
  if (found.data.length === 0) return <p className="muted">Nothing that was tried makes it so. An account that is gone, or root, cannot be helped by grants.</p>;
  return (
    <ol className="remedies">
      {found.data.map((remedy, number) => (
        <li key={remedy.words.join()}>
          <div className="row">
            <span className="does">{remedy.words.map((words) => <span key={words}>{words}</span>)}</span>
            {low !== high && <Comes effect={remedy.effect} who={who} place={place} />}
            <Button size="small" type={number === 0 ? "primary" : "default"} disabled={!canEdit || busy !== null} loading={busy === number} onClick={() => void keep(number, remedy.edits)}>Do it</Button>
          </div>
          <Effects effect={remedy.effect} who={who} place={place} />
        </li>
      ))}
    </ol>
  );
}

/** What comes out for somebody then. */
function Comes({ effect, who, place }: { effect: EffectOut; who: string; place: string }) {
  const cell = effect.cells.find((one) => one.subject === who && one.place === place);
  return cell ? <LevelTag level={cell.after} /> : null;
}

/** What edits change besides the cell asked about, and which promises they break or mend. */
export function Effects({ effect, who, place }: { effect: EffectOut; who?: string; place?: string }) {
  const { index } = usePlan();
  const [all, setAll] = useState(false);
  const others = effect.total - effect.cells.filter((cell) => cell.subject === who && cell.place === place).length;
  return (
    <div className="effects">
      {others === 0 ? <span className="muted">{who ? "changes nothing else for anybody" : "changes nobody’s access"}</span> : <button className="plain" aria-expanded={all} onClick={() => setAll(!all)}>{all ? "▾" : "▸"} {who ? "also changes " : "changes "}{plural(others, "cell")} of {plural(effect.people - (who && others < effect.total && !effect.cells.some((cell) => cell.subject === who && cell.place !== place) ? 1 : 0), "person", "people")}</button>}
      {effect.mends.length > 0 && <span className="RW">mends {plural(effect.mends.length, "promise")}</span>}
      {effect.breaks.map((words) => <div key={words} className="late">would break: {words}</div>)}
      {all && <Changes changed={effect} index={index} />}
    </div>
  );
}
