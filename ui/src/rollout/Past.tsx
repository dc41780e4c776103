import { useQuery } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

type Kind = Schemas["RolledOut"]["kind"];

const KINDS: Record<Kind, (steps: number) => string> = {
  "by-hand": (steps) => `${plural(steps, "step")} marked as done by hand`,
  applied: (steps) => `${plural(steps, "step")} applied and confirmed`,
  "rolled-back": (steps) => `${plural(steps, "step")} rolled back`,
  abandoned: (steps) => `of ${plural(steps, "step")}: ended with its outcome unknown`,
  "partly-rolled-back": (steps) => `of ${plural(steps, "step")} not all could be rolled back`,
  read: (steps) => (steps === 0 ? "looked at" : `looked at: ${plural(steps, "thing")} changed behind the plan’s back`),
};

/** What was rolled out before. */
export function History({ rollout }: { rollout: RolloutOut }) {
  const [open, setOpen] = useState<number | null>(null);
  if (rollout.history.length === 0) return null;
  return (
    <>
      <h2>
        Earlier rollouts <span className="muted">{rollout.history.length}</span>
      </h2>
      {rollout.history.map((one) => (
        <div key={one.number} className="past">
          <button className="plain" aria-expanded={open === one.number} onClick={() => setOpen(open === one.number ? null : one.number)}>
            {open === one.number ? "▾" : "▸"} {one.number}. {KINDS[one.kind](one.steps.length)}, by {one.by}, <Ago at={one.at} /> · revision{" "}
            {one.revision} · {appliance(one.appliance)}, in {one.top}
          </button>
          {one.run !== null && (
            <>
              {" "}
              <Link to={`?run=${one.run}`}>how it went</Link>
            </>
          )}
          {open === one.number && <Past key={one.number} one={one} all={rollout.history} />}
        </div>
      ))}
    </>
  );
}

/** Which appliance a rollout was for, of "ssh HOST PORT" and the like. */
function appliance(which: string): string {
  const [kind, host] = which.split(" ");
  return kind === "ssh" ? `at ${host}` : ({ here: "at this machine", "stand-in": "at the stand-in", papers: "by hand" }[kind!] ?? which);
}

/** One rollout of before: what it did, and what the appliance had otherwise after another one. */
function Past({ one, all }: { one: RolloutOut["history"][number]; all: RolloutOut["history"] }) {
  const { id, canEdit, outline, take } = usePlan();
  const [other, setOther] = useState<number | null>(null);
  const [trouble, setTrouble] = useState("");
  const compared = useQuery({
    queryKey: ["compared", id, one.number, other],
    enabled: other !== null,
    queryFn: () =>
      ask(api.GET("/api/v1/plans/{plan}/rollout/compare", { params: { path: { plan: id }, query: { before: one.number, then: other! } } })),
  });
  const back = async () => {
    try {
      await take(
        await ask(
          api.POST("/api/v1/plans/{plan}/back-to", {
            params: { path: { plan: id } },
            body: { revision: outline.revision, to: one.revision },
          }),
        ),
      );
    } catch (problem) {
      setTrouble(message(problem));
    }
  };
  return (
    <div className="past-more">
      {one.steps.length > 0 && (
        <ol>
          {one.steps.map((words, number) => (
            <li key={number}>{words}</li>
          ))}
        </ol>
      )}
      <div className="row">
        {all.length > 1 && (
          <>
            What differed after{" "}
            <Select
              size="small"
              aria-label="Compare with"
              placeholder="another"
              value={other}
              onChange={setOther}
              style={{ minWidth: 90 }}
              options={all
                .filter((past) => past.number !== one.number)
                .map((past) => ({ value: past.number, label: `rollout ${past.number}` }))}
            />
          </>
        )}
        <span className="spread" />
        {canEdit && one.revision < outline.revision && (
          <Button size="small" onClick={() => void back()}>
            Take the plan back to revision {one.revision}
          </Button>
        )}
      </div>
      {trouble && <div className="trouble">{trouble}</div>}
      {compared.isError && <div className="trouble">{message(compared.error)}</div>}
      {compared.data &&
        (compared.data.total === 0 ? (
          <p className="muted">Nothing.</p>
        ) : (
          <ul className="words" tabIndex={0}>
            {compared.data.words.map((words, number) => (
              <li key={number}>{words}</li>
            ))}
          </ul>
        ))}
    </div>
  );
}
