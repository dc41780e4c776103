import { useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Input, Modal } from "antd";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type RolloutOut, type RolloutStep } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { useRollout, useStanding } from "../plan/queries";
import { Reading } from "./Reading";
import { StepPanel } from "./StepPanel";

const GROUPS: [string, (step: RolloutStep) => boolean][] = [
  ["Shares that end", (step) => (step.part === "offers" || step.part === "exports") && step.does === "remove"],
  ["Groups", (step) => step.part === "groups"],
  ["Accounts", (step) => step.part === "accounts"],
  ["Who is in which group", (step) => step.part === "members"],
  ["Folders, owners and lists", (step) => step.part === "folders"],
  ["Shares", (step) => (step.part === "offers" || step.part === "exports") && step.does !== "remove"],
];

/** From what the appliance has to what the plan says: the steps, what to take away, and what was done when. */
export default function Rollout() {
  const { id, canEdit } = usePlan();
  const [params, setParams] = useSearchParams();
  const [top, setTop] = useState<string>();
  const [text, setText] = useState<string>();
  const [later, setLater] = useState<ReadonlySet<string>>(new Set());
  const [asked, setAsked] = useState(false);
  const [reading, setReading] = useState(false);
  const found = useRollout(true, top);
  const standing = useStanding().data;
  const steps = useMemo(() => found.data?.steps ?? [], [found.data]);
  const left = useMemo(() => leftOut(steps, later), [steps, later]);
  if (found.isError && !found.data) return <div className="work"><div className="trouble">{message(found.error)}</div><Button onClick={() => void found.refetch()}>Try again</Button></div>;
  if (!found.data) return <div className="loading" role="status">Working out the steps …</div>;
  const rollout = found.data;
  const chosen = steps.find((step) => step.id === params.get("step")) ?? steps[0];
  const broken = standing?.promises.filter((one) => one.broken > 0).length ?? 0;
  const doing = rollout.total - [...left.keys()].length;
  const cannot = steps.filter((step) => step.trouble);
  const query = new URLSearchParams([["top", rollout.top], ...[...left.keys()].map((step) => ["left", step])]).toString();
  const toggle = (step: string) => setLater((old) => { const next = new Set(old); if (!next.delete(step)) next.add(step); return next; });
  return (
    <>
      <div className="work">
        <div className="tools">
          <label className="row">Pools lie in <Input size="small" aria-label="The folder on the host in which the pools lie" style={{ width: 130 }} value={text ?? rollout.top} onChange={(event) => setText(event.target.value)} onBlur={() => setTop(text?.trim() || undefined)} onPressEnter={() => setTop(text?.trim() || undefined)} /></label>
          <span>{rollout.total === 0 ? "" : `${plural(doing, "step")}${doing < rollout.total ? ` of ${rollout.total.toLocaleString()}` : ""}`}</span>
          <span className="spread" />
          {canEdit && <Button size="small" onClick={() => setReading(true)}>What the host has …</Button>}
          {doing > 0 && <Button size="small" href={`/api/v1/plans/${id}/rollout/take-away/runbook?${query}`}>Runbook</Button>}
          {doing > 0 && <Button size="small" href={`/api/v1/plans/${id}/rollout/take-away/script?${query}`}>Script</Button>}
          {canEdit && doing > 0 && <Button size="small" type="primary" onClick={() => setAsked(true)}>These are done …</Button>}
        </div>
        <div className="sentences">
          {rollout.troubles.length > 0 && <div className="trouble"><b>Such a host cannot have this plan:</b><ul>{rollout.troubles.map((trouble) => <li key={trouble}>{trouble}</li>)}</ul></div>}
          {broken > 0 && rollout.total > 0 && <div className="said"><span>{plural(broken, "promise")} {broken === 1 ? "is" : "are"} broken, and would be on the appliance, too. <Link to={`/p/${id}/promises`}>Look first</Link></span></div>}
          {cannot.length > 0 && <div className="said"><span>{plural(cannot.length, "step")} cannot be done on a host with POSIX lists, and {cannot.length === 1 ? "is" : "are"} left with what needs {cannot.length === 1 ? "it" : "them"}: {cannot[0]!.trouble}.{cannot.length > 1 && ` And ${cannot.length - 1} more.`} Another list style for the pool, in Storage, changes that.</span></div>}
          {rollout.total === 0 && rollout.troubles.length === 0 && <div className="empty"><h2>The appliance has what the plan says</h2><p className="muted">{rollout.history.length === 0 ? "There is nothing in the plan yet that an appliance could be told." : "What you change from now on shows here as steps."}</p></div>}
          {GROUPS.map(([title, belongs]) => <Steps key={title} title={title} steps={steps.filter(belongs)} left={left} later={later} chosen={chosen?.id} onChoose={(step) => setParams({ step }, { replace: true })} onToggle={toggle} />)}
          {rollout.total > steps.length && <p className="muted">… and {(rollout.total - steps.length).toLocaleString()} more steps, in the script.</p>}
          {rollout.again.length > 0 && <p className="muted">Whose open sessions keep what they were until they sign in again: {rollout.again.slice(0, 12).join(", ")}{rollout.again.length > 12 && ` and ${rollout.again.length - 12} more`}.</p>}
          {rollout.left_out.length > 0 && <><h2>Not part of it, or otherwise</h2><ul className="words">{rollout.left_out.map((line) => <li key={line}>{line}</li>)}</ul></>}
          <History rollout={rollout} />
        </div>
      </div>
      <Side label="Step">{chosen ? <StepPanel key={chosen.id} step={chosen} top={rollout.top} left={left.get(chosen.id)} steps={steps} /> : <p className="muted">A step says here what it does, by which commands, and what undoes it.</p>}</Side>
      {reading && <Reading rollout={rollout} onClose={() => setReading(false)} />}
      {asked && <Done rollout={rollout} left={[...left.keys()]} doing={doing} onClose={(done) => { setAsked(false); if (done) setLater(new Set()); }} />}
    </>
  );
}

/** Steps that are not done now -> why: chosen so, impossible, or because of what they need. */
function leftOut(steps: RolloutStep[], later: ReadonlySet<string>): Map<string, string> {
  const left = new Map<string, string>();
  for (const step of steps) if (step.trouble) left.set(step.id, step.trouble); else if (later.has(step.id)) left.set(step.id, "left for later");
  for (let before = -1; before !== left.size; ) {
    before = left.size;
    for (const step of steps) {
      const missing = !left.has(step.id) && step.needs.find((need) => left.has(need));
      if (missing) left.set(step.id, `needs: ${steps.find((one) => one.id === missing)?.words ?? missing}`);
    }
  }
  return left;
}

function Steps({ title, steps, left, later, chosen, onChoose, onToggle }: { title: string; steps: RolloutStep[]; left: Map<string, string>; later: ReadonlySet<string>; chosen?: string; onChoose: (step: string) => void; onToggle: (step: string) => void }) {
  if (steps.length === 0) return null;
  return (
    <>
      <h2>{title} <span className="muted">{steps.length}</span></h2>
      {steps.map((step) => {
        const why = left.get(step.id);
        const own = !why || later.has(step.id);
        return (
          <div key={step.id} className={`step ${why ? "left" : ""}`}>
            <Checkbox checked={!why} disabled={!own} aria-label={`Do it: ${step.words}`} onChange={() => onToggle(step.id)} />
            <button className="sentence" aria-pressed={step.id === chosen} onClick={() => onChoose(step.id)}>
              <span>{step.words}</span>
              <span className={why ? "late" : "muted"}>{step.trouble ? "cannot be done" : why ? (later.has(step.id) ? "later" : "waits") : step.destroys ? "destroys" : step.reloads ? `${step.reloads.toUpperCase()} reads anew` : ""}</span>
            </button>
          </div>
        );
      })}
    </>
  );
}

function History({ rollout }: { rollout: RolloutOut }) {
  const [open, setOpen] = useState<number | null>(null);
  if (rollout.history.length === 0) return null;
  return (
    <>
      <h2>Done before <span className="muted">{rollout.history.length}</span></h2>
      {rollout.history.map((one) => (
        <div key={one.number} className="past">
          <button className="plain" aria-expanded={open === one.number} onClick={() => setOpen(open === one.number ? null : one.number)}>{open === one.number ? "▾" : "▸"} {one.number}. {one.kind === "read" ? (one.steps.length === 0 ? "read" : `read: ${plural(one.steps.length, "thing")} changed behind the plan’s back; told`) : plural(one.steps.length, "step")} by {one.by}, <Ago at={one.at} /> · revision {one.revision} · in {one.top}</button>
          {open === one.number && <ol>{one.steps.map((words, number) => <li key={number}>{words}</li>)}</ol>}
        </div>
      ))}
    </>
  );
}

/** Says that the steps were carried out by hand: from then on the appliance has what they make. */
function Done({ rollout, left, doing, onClose }: { rollout: RolloutOut; left: string[]; doing: number; onClose: (done: boolean) => void }) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  const keep = async () => {
    setBusy(true);
    try {
      await ask(api.POST("/api/v1/plans/{plan}/rollout/done", { params: { path: { plan: id } }, body: { revision: rollout.revision, top: rollout.top, left } }));
      await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
      onClose(true);
    } catch (problem) {
      setError(message(problem));
      setBusy(false);
    }
  };
  return (
    <Modal title={`${plural(doing, "step")} ${doing === 1 ? "was" : "were"} done on the appliance`} open onCancel={() => onClose(false)} onOk={() => void keep()} okText="Yes, they were done" cancelText="Not yet" confirmLoading={busy}>
      <p>Say so when the script ran to its end, or the runbook was worked through. From then on Yard Gate takes the appliance to have what {doing === 1 ? "it makes" : "they make"}, and shows what you change after that.</p>
      {left.length > 0 && <p className="muted">{plural(left.length, "step")} stay to be done later.</p>}
      {error && <div className="trouble">{error}</div>}
    </Modal>
  );
}
