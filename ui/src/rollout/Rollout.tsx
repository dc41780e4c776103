import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Modal, Select } from "antd";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type RolloutOut, type RolloutStep, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { useRollout, useStanding } from "../plan/queries";
import { DestinationDialog, whereTo } from "./Destination";
import { Inside } from "./Inside";
import { Leftovers } from "./Leftovers";
import { Papers } from "./Papers";
import { leftOut } from "./leftOut";
import { PutThere } from "./PutThere";
import { Reading } from "./Reading";
import { Run } from "./Run";
import { Manage } from "./Manage";
import { StepPanel } from "./StepPanel";

type Drift = Schemas["DriftOut"];
type Kind = Schemas["RolledOut"]["kind"];

const GROUPS: [string, (step: RolloutStep) => boolean][] = [
  ["Shares to stop", (step) => (step.part === "offers" || step.part === "exports") && step.does === "remove"],
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
  const [later, setLater] = useState<ReadonlySet<string>>(new Set());
  const [asked, setAsked] = useState(false);
  const [reading, setReading] = useState(false);
  const [sending, setSending] = useState(false);
  const [putting, setPutting] = useState(false);
  const [drift, setDrift] = useState<Drift | null>(null);
  const [looking, setLooking] = useState<string | null>(null);
  const found = useRollout(true);
  const standing = useStanding().data;
  const steps = useMemo(() => found.data?.steps ?? [], [found.data]);
  const left = useMemo(() => leftOut(steps, later), [steps, later]);
  if (found.isError && !found.data)
    return (
      <div className="work">
        <div className="trouble">{message(found.error)}</div>
        <Button onClick={() => void found.refetch()}>Try again</Button>
      </div>
    );
  if (!found.data)
    return (
      <div className="loading" role="status">
        Working out the steps …
      </div>
    );
  const rollout = found.data;
  const run = params.get("run") ?? rollout.under_way;
  if (run !== null)
    return (
      <Run
        key={run}
        number={Number(run)}
        onClose={() => {
          setParams({}, { replace: true });
          void found.refetch();
        }}
      />
    );
  if (params.has("inside")) return <Inside rollout={rollout} onClose={() => setParams({}, { replace: true })} />;
  const reachable = rollout.destination.kind !== "papers";
  const look = async () => {
    setLooking("");
    try {
      setDrift(
        await ask(api.POST("/api/v1/plans/{plan}/rollout/look", { params: { path: { plan: id } }, body: { revision: rollout.revision } })),
      );
      await found.refetch();
      setLooking(null);
    } catch (error) {
      setLooking(message(error));
    }
  };
  const work = async () => {
    try {
      const begun = await ask(
        api.POST("/api/v1/plans/{plan}/rollout/by-hand", {
          params: { path: { plan: id } },
          body: { revision: rollout.revision, left: [...left.keys()] },
        }),
      );
      setParams({ run: String(begun.number) }, { replace: true });
    } catch (error) {
      setLooking(message(error));
    }
  };
  const chosen = steps.find((step) => step.id === params.get("step")) ?? steps[0];
  const broken = standing?.promises.filter((one) => one.broken > 0).length ?? 0;
  const doing = rollout.total - [...left.keys()].length;
  const theirs = new Set(rollout.manageable.map((one) => one.name));
  const cannot = steps.filter((step) => step.trouble && !theirs.has(step.name));
  const query = new URLSearchParams([...left.keys()].map((step) => ["left", step])).toString();
  const toggle = (step: string) =>
    setLater((old) => {
      const next = new Set(old);
      if (!next.delete(step)) next.add(step);
      return next;
    });
  return (
    <>
      <div className="work">
        <div className="tools">
          <span className="muted">Pools lie in {rollout.destination.top}</span>
          <span>
            {rollout.total === 0 ? "" : `${plural(doing, "step")}${doing < rollout.total ? ` of ${rollout.total.toLocaleString()}` : ""}`}
          </span>
          <span className="spread" />
          <button className="plain link" disabled={!canEdit} onClick={() => setSending(true)}>
            to {whereTo(rollout.destination)} ▾
          </button>
          {canEdit &&
            (reachable ? (
              <Button size="small" loading={looking === ""} onClick={() => void look()}>
                Read what it has
              </Button>
            ) : (
              <Button size="small" onClick={() => setReading(true)}>
                What the host has …
              </Button>
            ))}
          {rollout.troubles.length === 0 && <Papers query={query} steps={doing > 0} />}
          {canEdit &&
            doing > 0 &&
            (reachable ? (
              <Button size="small" type="primary" disabled={!rollout.known} onClick={() => setPutting(true)}>
                Roll out …
              </Button>
            ) : (
              <>
                <Button size="small" onClick={() => setAsked(true)}>
                  Mark as done …
                </Button>
                <Button size="small" type="primary" onClick={() => void work()}>
                  Work through them
                </Button>
              </>
            ))}
        </div>
        <div className="sentences">
          {looking && <div className="trouble">{looking}</div>}
          {drift && <Drifted drift={drift} onClose={() => setDrift(null)} />}
          {reachable && !rollout.known && rollout.troubles.length === 0 && (
            <div className="said">
              <span>
                What {whereTo(rollout.destination)} has is not known yet.{" "}
                <button className="plain link" onClick={() => void look()}>
                  Read what it has
                </button>
                ; the steps then lead from there.
              </span>
            </div>
          )}
          {rollout.troubles.length > 0 && (
            <div className="trouble">
              <b>This host cannot carry out the plan:</b>
              <ul>
                {rollout.troubles.map((trouble) => (
                  <li key={trouble}>{trouble}</li>
                ))}
              </ul>
            </div>
          )}
          {broken > 0 && rollout.total > 0 && (
            <div className="said">
              <span>
                {plural(broken, "promise")} {broken === 1 ? "is" : "are"} broken, and would be on the appliance, too.{" "}
                <Link to={`/p/${id}/promises`}>Look at them first</Link>
              </span>
            </div>
          )}
          {rollout.manageable.length > 0 && <Manage rollout={rollout} />}
          {cannot.length > 0 && (
            <div className="said">
              <span>
                {plural(cannot.length, "step")} cannot be done there, and {cannot.length === 1 ? "is" : "are"} left with what needs{" "}
                {cannot.length === 1 ? "it" : "them"}: {cannot[0]!.trouble}.{cannot.length > 1 && ` And ${cannot.length - 1} more.`}
              </span>
            </div>
          )}
          {rollout.total === 0 && rollout.troubles.length === 0 && (
            <div className="empty">
              <h2>The appliance has what the plan says</h2>
              <p className="muted">
                {rollout.history.length === 0
                  ? "There is nothing in the plan yet that could be rolled out."
                  : "What you change from now on shows here as steps."}
              </p>
            </div>
          )}
          {GROUPS.map(([title, belongs]) => (
            <Steps
              key={title}
              title={title}
              steps={steps.filter(belongs)}
              left={left}
              later={later}
              chosen={chosen?.id}
              onChoose={(step) => setParams({ step }, { replace: true })}
              onToggle={toggle}
            />
          ))}
          {rollout.total > steps.length && (
            <p className="muted">… and {(rollout.total - steps.length).toLocaleString()} more steps, in the script.</p>
          )}
          {rollout.again.length > 0 && (
            <p className="muted">
              These people keep their old access until they sign in again: {rollout.again.slice(0, 12).join(", ")}
              {rollout.again.length > 12 && ` and ${rollout.again.length - 12} more`}.
            </p>
          )}
          {rollout.left_out.length > 0 && (
            <>
              <h2>Left out, or done differently</h2>
              <ul className="words">
                {rollout.left_out.map((line) => (
                  <li key={line}>{line}</li>
                ))}
              </ul>
            </>
          )}
          {reachable && rollout.known && (
            <>
              <h2>What lies there already</h2>
              <p className="muted">
                Files and folders in the folders of the plan keep the lists they were made with.{" "}
                <button className="plain link" onClick={() => setParams({ inside: "" }, { replace: true })}>
                  Look into the folders
                </button>
              </p>
            </>
          )}
          <Leftovers rollout={rollout} onBegun={(number) => setParams({ run: String(number) }, { replace: true })} />
          <History rollout={rollout} />
        </div>
      </div>
      <Side label="Step">
        {chosen ? (
          <StepPanel
            key={chosen.id}
            step={chosen}
            simulated={rollout.destination.kind === "stand-in"}
            left={left.get(chosen.id)}
            steps={steps}
          />
        ) : (
          <p className="muted">A step says here what it does, by which commands, and what undoes it.</p>
        )}
      </Side>
      {sending && <DestinationDialog now={rollout.destination} onClose={() => setSending(false)} />}
      {putting && (
        <PutThere
          rollout={rollout}
          left={[...left.keys()]}
          doing={doing}
          broken={broken}
          onClose={(number) => {
            setPutting(false);
            if (number !== null) {
              setLater(new Set());
              setDrift(null);
              setParams({ run: String(number) }, { replace: true });
            }
          }}
        />
      )}
      {reading && <Reading rollout={rollout} onClose={() => setReading(false)} />}
      {asked && (
        <Done
          rollout={rollout}
          left={[...left.keys()]}
          doing={doing}
          onClose={(done) => {
            setAsked(false);
            if (done) setLater(new Set());
          }}
        />
      )}
    </>
  );
}

function Steps({
  title,
  steps,
  left,
  later,
  chosen,
  onChoose,
  onToggle,
}: {
  title: string;
  steps: RolloutStep[];
  left: Map<string, string>;
  later: ReadonlySet<string>;
  chosen?: string;
  onChoose: (step: string) => void;
  onToggle: (step: string) => void;
}) {
  if (steps.length === 0) return null;
  return (
    <>
      <h2>
        {title} <span className="muted">{steps.length}</span>
      </h2>
      {steps.map((step) => {
        const why = left.get(step.id);
        const own = !why || later.has(step.id);
        return (
          <div key={step.id} className={`step ${why ? "left" : ""}`}>
            <Checkbox checked={!why} disabled={!own} aria-label={`Do it: ${step.words}`} onChange={() => onToggle(step.id)} />
            <button className="sentence" aria-pressed={step.id === chosen} onClick={() => onChoose(step.id)}>
              <span>{step.words}</span>
              <span className={why ? "late" : "muted"}>
                {step.trouble
                  ? "cannot be done"
                  : why
                    ? later.has(step.id)
                      ? "later"
                      : "waits"
                    : step.destroys
                      ? "destroys"
                      : step.reloads
                        ? `${step.reloads.toUpperCase()} reloads`
                        : ""}
              </span>
            </button>
          </div>
        );
      })}
    </>
  );
}

/** What was changed behind the plan's back, found by looking. */
function Drifted({ drift, onClose }: { drift: Drift; onClose: () => void }) {
  return (
    <div className="said-box">
      <div className="row">
        <b>
          {drift.first
            ? "Now it is known what the appliance has"
            : drift.total === 0
              ? "Everything is as the last rollout left it"
              : `${plural(drift.total, "thing")} changed behind the plan’s back`}
        </b>
        <span className="spread" />
        <button className="plain" aria-label="Close" onClick={onClose}>
          ✕
        </button>
      </div>
      {drift.total > 0 && (
        <>
          <p className="muted">Somebody did this at the appliance itself:</p>
          <ul className="words">
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

const KINDS: Record<Kind, (steps: number) => string> = {
  "by-hand": (steps) => `${plural(steps, "step")} marked as done by hand`,
  applied: (steps) => `${plural(steps, "step")} applied and confirmed`,
  "rolled-back": (steps) => `${plural(steps, "step")} rolled back`,
  abandoned: (steps) => `of ${plural(steps, "step")}: ended with its outcome unknown`,
  "partly-rolled-back": (steps) => `of ${plural(steps, "step")} not all could be rolled back`,
  read: (steps) => (steps === 0 ? "looked at" : `looked at: ${plural(steps, "thing")} changed behind the plan’s back`),
};

function History({ rollout }: { rollout: RolloutOut }) {
  const [open, setOpen] = useState<number | null>(null);
  if (rollout.history.length === 0) return null;
  return (
    <>
      <h2>
        Done before <span className="muted">{rollout.history.length}</span>
      </h2>
      {rollout.history.map((one) => (
        <div key={one.number} className="past">
          <button className="plain" aria-expanded={open === one.number} onClick={() => setOpen(open === one.number ? null : one.number)}>
            {open === one.number ? "▾" : "▸"} {one.number}. {KINDS[one.kind](one.steps.length)}, by {one.by}, <Ago at={one.at} /> · revision{" "}
            {one.revision} · in {one.top}
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

/** Says that the steps were carried out by hand: from then on the appliance has what they make. */
function Done({ rollout, left, doing, onClose }: { rollout: RolloutOut; left: string[]; doing: number; onClose: (done: boolean) => void }) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState("");
  const keep = async () => {
    setBusy(true);
    try {
      await ask(
        api.POST("/api/v1/plans/{plan}/rollout/done", { params: { path: { plan: id } }, body: { revision: rollout.revision, left } }),
      );
      await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
      onClose(true);
    } catch (problem) {
      setError(message(problem));
      setBusy(false);
    }
  };
  return (
    <Modal
      title={`${plural(doing, "step")} ${doing === 1 ? "was" : "were"} done on the appliance`}
      open
      onCancel={() => onClose(false)}
      onOk={() => void keep()}
      okText="Yes, they were done"
      cancelText="Cancel"
      confirmLoading={busy}
    >
      <p>
        Say so when the script ran to its end, or the runbook was worked through. From then on Yard Gate takes the appliance to have what{" "}
        {doing === 1 ? "it makes" : "they make"}, and shows what you change after that.
      </p>
      {left.length > 0 && <p className="muted">{plural(left.length, "step")} stay to be done later.</p>}
      {error && <div className="trouble">{error}</div>}
    </Modal>
  );
}
