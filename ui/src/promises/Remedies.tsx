import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type Edit, type EffectOut, type Level, type Promised } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { Effects } from "../parts/Effects";
import { usePlan } from "../plan/PlanContext";

/** What would repair a cell: edits, the best first, each with all that it changes besides. */
export function Remedies({
  who,
  place,
  low,
  high,
  over = null,
  seen,
}: {
  who: string;
  place: string;
  low: Level;
  high: Level;
  over?: Promised["protocol"];
  seen?: boolean;
}) {
  const { id, canEdit, edit } = usePlan();
  const [busy, setBusy] = useState<number | null>(null);
  const found = useQuery({
    queryKey: ["of-plan", id, "remedies", who, place, low, high, over, seen],
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/remedies", {
          params: { path: { plan: id }, query: { who, place, low, high, over: over ?? undefined, seen } },
        }),
      ),
  });
  const keep = async (number: number, edits: Edit[]) => {
    setBusy(number);
    await edit(edits);
    setBusy(null);
  };
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data)
    return (
      <p className="muted" role="status">
        Looking for repairs …
      </p>
    );
  if (found.data.length === 0)
    return <p className="muted">No change that was tried gets there. An account that is gone, or root, cannot be helped by grants.</p>;
  return (
    <ol className="remedies">
      {found.data.map((remedy, number) => (
        <li key={remedy.words.join()}>
          <div className="row">
            <span className="does">
              {remedy.words.map((words) => (
                <span key={words}>{words}</span>
              ))}
            </span>
            {low !== high && <Comes effect={remedy.effect} who={who} place={place} />}
            <Button
              size="small"
              type={number === 0 && remedy.free ? "primary" : "default"}
              danger={!remedy.free}
              disabled={!canEdit || busy !== null}
              loading={busy === number}
              onClick={() => void keep(number, remedy.edits)}
            >
              Do it
            </Button>
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
