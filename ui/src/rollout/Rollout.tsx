import { useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Modal } from "antd";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type RolloutOut, type RolloutStep, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { few, plural } from "../parts/plural";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { useRollout, useStanding } from "../plan/queries";
import { Check } from "./Check";
import { DestinationDialog, whereTo } from "./Destination";
import { Drifted } from "./Drifted";
import { Inside } from "./Inside";
import { Leftovers } from "./Leftovers";
import { Papers } from "./Papers";
import { leftOut } from "./leftOut";
import { History } from "./Past";
import { PutThere } from "./PutThere";
import { Reading } from "./Reading";
import { Run } from "./Run";
import { SignIns } from "./SignIns";
import { Snapshots } from "./Snapshots";
import { Manage } from "./Manage";
import { StepPanel } from "./StepPanel";

type Drift = Schemas["DriftOut"];

const GROUPS: [string, (step: RolloutStep) => boolean][] = [
  ["Shares to stop", (step) => (step.part === "offers" || step.part === "exports") && step.does === "remove"],
  ["Groups", (step) => step.part === "groups"],
  ["Accounts", (step) => step.part === "accounts"],
  ["Who is in which group", (step) => step.part === "members"],
  ["Pools and datasets", (step) => step.part === "datasets"],
  ["Folders, owners and lists", (step) => step.part === "folders"],
  ["Shares", (step) => (step.part === "offers" || step.part === "exports") && step.does !== "remove"],
  ["Servers", (step) => step.part === "services"],
];

/** From what the appliance has to what the plan says: the steps, what to take away, and what was done when. */
export default function Rollout() {
  const { id, canEdit } = usePlan();
  const [params, setParams] = useSearchParams();
  const [later, setLater] = useState<ReadonlySet<string>>(new Set());
  const [asked, setAsked] = useState(false);
  const [reading, setReading] = useState(false);
  const [sending, setSending] = useState(() => params.has("where"));
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
  if (params.has("snapshots")) return <Snapshots rollout={rollout} onClose={() => setParams({}, { replace: true })} />;
  if (params.has("check")) return <Check rollout={rollout} onClose={() => setParams({}, { replace: true })} />;
  if (params.has("signin"))
    return <SignIns rollout={rollout} only={params.get("signin")!} onClose={() => setParams({}, { replace: true })} />;
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
          <span className="muted">
            Pools lie in {rollout.destination.top}
            {rollout.known && (
              <>
                {" "}
                · {rollout.known.kind === "read" ? "read" : "rolled out"} <Ago at={rollout.known.at} />
              </>
            )}
          </span>
          <span>
            {rollout.total === 0 ? "" : `${plural(doing, "step")}${doing < rollout.total ? ` of ${rollout.total.toLocaleString()}` : ""}`}
          </span>
          <span className="spread" />
          <button className="plain link" disabled={!canEdit} onClick={() => setSending(true)}>
            to {whereTo(rollout.destination)} ▾
          </button>
          {canEdit && reachable && rollout.known && (
            <Button size="small" onClick={() => setParams({ signin: "" }, { replace: true })}>
              Signing in …
            </Button>
          )}
          {canEdit && reachable && rollout.known && (
            <Button size="small" onClick={() => setParams({ check: "" }, { replace: true })}>
              Cannot get in? …
            </Button>
          )}
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
          {rollout.without_password.length > 0 && (
            <p className="muted">
              New accounts: {few(rollout.without_password)}. Nobody knows their passwords yet:{" "}
              {reachable ? "when they stand, make first ones under Signing in" : "give each one on the host, with smbpasswd NAME"}.
            </p>
          )}
          {rollout.again.length > 0 && (
            <p className="muted">These people keep their old access until they sign in again: {few(rollout.again)}.</p>
          )}
          {rollout.left_out.length > 0 && (
            <>
              <h2>Left out, or done differently</h2>
              <ul className="words" tabIndex={0}>
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
                {canEdit && (
                  <>
                    {" "}
                    Was something lost or spoiled?{" "}
                    <button className="plain link" onClick={() => setParams({ snapshots: "" }, { replace: true })}>
                      Go back to a snapshot
                    </button>
                  </>
                )}
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
