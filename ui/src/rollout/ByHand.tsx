import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox } from "antd";
import { useState } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { Progress } from "../parts/Progress";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { Papers } from "./Papers";
import { Commands } from "./StepPanel";

type RunOut = Schemas["RunOut"];

/** Working through a runbook: the step at hand with its commands, each marked as done. It waits as long as it takes. */
export function ByHand({ run, onAsked }: { run: RunOut; onAsked: () => Promise<unknown> }) {
  const { id, canEdit } = usePlan();
  const client = useQueryClient();
  const next = run.steps.findIndex((step) => step.state !== "done");
  const [picked, setPicked] = useState<number | null>(null);
  const [busy, setBusy] = useState<number | "end" | null>(null);
  const [trouble, setTrouble] = useState("");
  const at = picked ?? (next === -1 ? run.steps.length - 1 : next);
  const act = async (what: number | "end", how: () => Promise<unknown>) => {
    setBusy(what);
    setTrouble("");
    try {
      await how();
      await onAsked();
    } catch (problem) {
      setTrouble(message(problem));
    }
    setBusy(null);
  };
  const mark = (step: number, done: boolean) =>
    void act(step, () =>
      ask(
        api.PUT("/api/v1/plans/{plan}/rollout/runs/{number}/steps/{step}/done", {
          params: { path: { plan: id, number: run.number, step } },
          body: { done },
        }),
      ),
    ).then(() => setPicked(null));
  const end = () =>
    void act("end", async () => {
      await ask(api.POST("/api/v1/plans/{plan}/rollout/runs/{number}/confirm", { params: { path: { plan: id, number: run.number } } }));
      await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
    });
  const all = run.done === run.total;
  return (
    <>
      <div className="work">
        <div className="tools">
          <b>{plural(run.total, "step")} by hand</b>
          <span className="muted">
            revision {run.revision} · started by {run.by} · <Ago at={run.at} />
          </span>
          <span className="spread" />
          <Papers query="" only={["page", "script"]} />
        </div>
        <div className="sentences">
          {trouble && <div className="trouble">{trouble}</div>}
          {run.steps.map((step, place) => (
            <div key={place} className="step">
              <Checkbox
                checked={step.state === "done"}
                disabled={!canEdit || busy !== null}
                aria-label={`Done: ${step.words}`}
                onChange={(event) => mark(place, event.target.checked)}
              />
              <button className="sentence" aria-pressed={place === at} onClick={() => setPicked(place)}>
                <span className={step.state === "done" ? "muted" : ""}>{step.words}</span>
                <span className="muted">
                  {step.state === "done" && (
                    <>
                      {step.by}, <Ago at={step.at!} />
                    </>
                  )}
                </span>
              </button>
            </div>
          ))}
          {run.total > run.steps.length && (
            <p className="muted">… and {(run.total - run.steps.length).toLocaleString()} more steps, in the script.</p>
          )}
        </div>
      </div>
      <Side label="Step at hand">
        <div className={`verdict ${all ? "good" : ""}`} role="status">
          <div className="verdict-title">
            {run.done.toLocaleString()} of {run.total.toLocaleString()} done
          </div>
          <Progress share={run.done / Math.max(1, run.total)} />
          <div>
            {all
              ? "From here on the appliance is taken to have all of it."
              : "Who marks what as done, and when, is recorded. You can leave and go on later; so can any other planner."}
          </div>
          {canEdit && (
            <div className="acts">
              <Button type={all ? "primary" : "default"} disabled={busy !== null} onClick={end}>
                {all ? "That was all" : run.done === 0 ? "Cancel" : "End here; the rest later"}
              </Button>
            </div>
          )}
        </div>
        {run.steps[at] && (
          <Hand
            key={at}
            run={run}
            step={at}
            onDone={canEdit && run.steps[at].state !== "done" ? () => mark(at, true) : undefined}
            busy={busy !== null}
          />
        )}
      </Side>
    </>
  );
}

/** The step at hand: its commands, and what undoes it. */
function Hand({ run, step, busy, onDone }: { run: RunOut; step: number; busy: boolean; onDone: (() => void) | undefined }) {
  const { id } = usePlan();
  const found = useQuery({
    queryKey: ["run-step", id, run.number, step],
    staleTime: Infinity,
    queryFn: () =>
      ask(api.GET("/api/v1/plans/{plan}/rollout/runs/{number}/steps/{step}", { params: { path: { plan: id, number: run.number, step } } })),
  });
  const words = run.steps[step]!.words;
  return (
    <>
      <h2>
        {step + 1}. {words.charAt(0).toUpperCase() + words.slice(1)}
      </h2>
      {onDone && (
        <Button type="primary" block disabled={busy} onClick={onDone}>
          Done
        </Button>
      )}
      {found.isError && <div className="trouble">{message(found.error)}</div>}
      {!found.data && !found.isError && (
        <p className="muted" role="status">
          Writing its commands …
        </p>
      )}
      {found.data && (
        <>
          <Commands lines={found.data.commands} />
          <h3>What undoes it: {found.data.undo_words}</h3>
          <Commands lines={found.data.undo} />
        </>
      )}
    </>
  );
}
