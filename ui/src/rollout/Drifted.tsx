import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

type Drift = Schemas["DriftOut"];

/** What was changed behind the plan's back, found by looking. */
export function Drifted({ drift, onClose }: { drift: Drift; onClose: () => void }) {
  return (
    <div className="said-box">
      <div className="row">
        <b>
          {drift.first
            ? "Now it is known what the appliance has"
            : drift.total === 0
              ? drift.shut.length
                ? "Everything is as the last rollout left it, but not all clients get to it"
                : "Everything is as the last rollout left it"
              : `${plural(drift.total, "thing")} changed behind the plan’s back`}
        </b>
        <span className="spread" />
        <button className="plain" aria-label="Close" onClick={onClose}>
          ✕
        </button>
      </div>
      {drift.shut.length > 0 && (
        <>
          <ul className="words late">
            {drift.shut.map((words) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
          <p className="muted">No rollout changes a firewall: open the port there.</p>
        </>
      )}
      {drift.total > 0 && (
        <>
          <p className="muted">Somebody did this at the appliance itself:</p>
          <ul className="words" tabIndex={0}>
            {drift.words.map((words, number) => (
              <DriftLine key={number} words={words} edits={drift.edits[number] ?? []} />
            ))}
          </ul>
          <p className="muted">The steps below put it right. What is meant to stay has to come into the plan.</p>
        </>
      )}
    </div>
  );
}

/** One thing that was changed at the appliance; taken into the plan, where a plan can say it. */
function DriftLine({ words, edits }: { words: string; edits: Drift["edits"][number] }) {
  const { id, canEdit, outline, take } = usePlan();
  const [state, setState] = useState<"" | "taken" | "busy">("");
  const [trouble, setTrouble] = useState("");
  const keep = async () => {
    setState("busy");
    try {
      await take(
        await ask(api.POST("/api/v1/plans/{plan}/edits", { params: { path: { plan: id } }, body: { revision: outline.revision, edits } })),
      );
      setState("taken");
    } catch (problem) {
      setTrouble(message(problem));
      setState("");
    }
  };
  return (
    <li className="row">
      <span className="spread">
        {words}
        {trouble && <span className="late"> {trouble}</span>}
      </span>
      {state === "taken" ? (
        <span className="RW">in the plan now</span>
      ) : (
        canEdit &&
        edits.length > 0 && (
          <Button size="small" loading={state === "busy"} onClick={() => void keep()}>
            Add it to the plan
          </Button>
        )
      )}
    </li>
  );
}
