import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Popconfirm } from "antd";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, message, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { few, plural } from "../parts/plural";
import { Progress } from "../parts/Progress";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { useStanding } from "../plan/queries";
import { ByHand } from "./ByHand";
import { whereTo } from "./Destination";

type RunOut = Schemas["RunOut"];
type RunStep = Schemas["RunStep"];

const MARK: Record<RunStep["state"], [string, string]> = {
  "to do": ["", ""],
  doing: ["", "doing …"],
  done: ["✓", "read back: same"],
  failed: ["!", "failed"],
  back: ["↩", "rolled back"],
  "not back": ["!", "not rolled back"],
};

/** A rollout that is carried out, or was: each step, what was tried for real, and confirming it or not. */
export function Run({ number, onClose }: { number: number; onClose: () => void }) {
  const { id, administers, canEdit } = usePlan();
  const client = useQueryClient();
  const found = useQuery({
    queryKey: ["run", id, number],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rollout/runs/{number}", { params: { path: { plan: id, number } } })),
    refetchInterval: (query) => (query.state.data?.ended ? false : query.state.data?.state === "by-hand" ? 5000 : 600),
  });
  const run = found.data;
  const ended = Boolean(run?.ended);
  useEffect(() => {
    if (ended) void client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
  }, [ended, client, id]);
  const here = useRef<HTMLLIElement>(null);
  const at = run ? (run.state === "applying" ? run.done : -1) : -1;
  useEffect(() => {
    void here.current?.scrollIntoView({ block: "nearest" });
  }, [at]);
  if (!run)
    return found.isError ? (
      <div className="work">
        <div className="trouble">{message(found.error)}</div>
      </div>
    ) : (
      <div className="loading" role="status">
        Loading its progress …
      </div>
    );
  if (run.state === "by-hand") return <ByHand run={run} onAsked={() => found.refetch()} />;
  return (
    <>
      <div className="work">
        <div className="tools">
          <b>
            {plural(run.total, "step")} {run.seconds === 0 ? "by hand" : `to ${whereTo(run.destination)}`}
          </b>
          <span className="muted">
            revision {run.revision} · by {run.by} · <Ago at={run.at} />
          </span>
          <span className="spread" />
          {run.ended && (
            <Button size="small" onClick={onClose}>
              Back to the steps
            </Button>
          )}
        </div>
        {found.isError && <div className="said">Yard Gate does not answer; the appliance watches over it by itself. Trying again.</div>}
        <div className="sentences">
          <ol className="line">
            {run.steps.map((step, place) => (
              <li key={place} ref={place === at ? here : undefined} className={`stop ${step.state.replace(" ", "-")}`}>
                <span className="dot" aria-hidden>
                  {MARK[step.state][0]}
                </span>
                <span>
                  {step.words}
                  {step.why && <span className="late"> {step.why}</span>}
                </span>
                <span className={step.state === "failed" || step.state === "not back" ? "late" : "muted"}>
                  {step.by ? (
                    <>
                      {step.by}, <Ago at={step.at!} />
                    </>
                  ) : (
                    MARK[step.state][1]
                  )}
                </span>
              </li>
            ))}
          </ol>
          {run.total > run.steps.length && <p className="muted">… and {(run.total - run.steps.length).toLocaleString()} more steps.</p>}
        </div>
      </div>
      <Side label="How it goes">
        <h2 className="sr">How it goes</h2>
        <Verdict run={run} onAsked={() => void found.refetch()} seen={found.dataUpdatedAt} />
        {!run.ended && administers && run.state !== "awaiting-confirmation" && (
          <EndRun run={run} host={whereTo(run.destination)} onAsked={() => void found.refetch()} />
        )}
        <Tried run={run} />
        {run.without_password.length > 0 && run.state !== "rolled-back" && (
          <>
            <h3>New accounts without a known password</h3>
            <p>{few(run.without_password)}: nobody can sign in as these until you give each a password.</p>
            {run.state === "committed" && run.destination.kind !== "papers" ? (
              <p>
                <Link to="?signin=">Make first passwords</Link>
              </p>
            ) : (
              <p className="muted">{run.ended ? "On the host: smbpasswd NAME." : "That can be done as soon as this is confirmed."}</p>
            )}
          </>
        )}
        {run.again.length > 0 && run.state !== "rolled-back" && (
          <>
            <h3>Must sign in again</h3>
            <p>{few(run.again)}: their open sessions keep what they were.</p>
          </>
        )}
        {run.notes.length > 0 && (
          <>
            <h3>On the way</h3>
            <ul className="words" tabIndex={0}>
              {run.notes.map((note, place) => (
                <li key={place}>{note}</li>
              ))}
            </ul>
          </>
        )}
        {run.snapshots.length > 0 && (
          <>
            <h3>As it was before, in snapshots</h3>
            <ul className="words" tabIndex={0}>
              {run.snapshots.map((made) => (
                <li key={made}>
                  {made.slice(0, made.lastIndexOf(" "))} <span className="muted nowrap">{made.slice(made.lastIndexOf(" ") + 1)}</span>
                </li>
              ))}
            </ul>
            {run.ended && canEdit && (
              <p>
                <Link to="?snapshots=">See what going back would change</Link>
              </p>
            )}
          </>
        )}
      </Side>
    </>
  );
}

/** How it stands, in a card; and what can be done about it. */
function Verdict({ run, onAsked, seen }: { run: RunOut; onAsked: () => void; seen: number }) {
  const { id, canEdit } = usePlan();
  const [trouble, setTrouble] = useState("");
  const [asked, setAsked] = useState("");
  const tell = async (what: "confirm" | "rollback") => {
    setAsked(what);
    setTrouble("");
    try {
      const params = { params: { path: { plan: id, number: run.number } } };
      await ask(
        what === "confirm"
          ? api.POST("/api/v1/plans/{plan}/rollout/runs/{number}/confirm", params)
          : api.POST("/api/v1/plans/{plan}/rollout/runs/{number}/rollback", params),
      );
      onAsked();
    } catch (error) {
      setTrouble(message(error));
      setAsked("");
    }
  };
  const host = whereTo(run.destination);
  const off = run.differs.length;
  const back = (
    <Button disabled={asked !== ""} onClick={() => void tell("rollback")}>
      {run.state === "awaiting-confirmation" ? "Roll back now" : "Stop and roll back"}
    </Button>
  );
  const [title, says, acts] = ((): [ReactNode, ReactNode, ReactNode] => {
    if (run.seconds === 0)
      return run.done === 0
        ? ["Left as it was", "Nothing was marked as done.", null]
        : [
            `${run.done} of ${run.total} done by hand`,
            <>
              The appliance is taken to have that, since <Ago at={run.ended!} />.
            </>,
            null,
          ];
    switch (run.state) {
      case "by-hand":
      case "pending":
        return ["Starting", `${host} is told to watch over it.`, null];
      case "applying":
        return [
          `Step ${Math.min(run.done + 1, run.total)} of ${run.total.toLocaleString()}`,
          "Each is read back before the next. If one fails, everything is rolled back.",
          back,
        ];
      case "verifying":
        return [
          `Verifying: ${run.tried} of ${run.to_try}`,
          "Test users go into the shares and look whether they find what the plan says.",
          back,
        ];
      case "awaiting-confirmation":
        return [
          <>
            Confirm within <Countdown key={seen} left={run.left ?? 0} />
          </>,
          `Otherwise ${host} rolls everything back by itself, even if Yard Gate is off by then.${off ? " Look first: what was verified is not as planned." : ""}`,
          <>
            {back}
            <Button type="primary" disabled={asked !== ""} onClick={() => void tell("confirm")}>
              Confirm
            </Button>
          </>,
        ];
      case "confirming":
        return ["Confirming", `${host} is told to watch no longer.`, null];
      case "rolling-back":
        return [`Rolling back: ${run.back}`, "The last step first.", null];
      case "host-rolling-back":
        return ["The host is rolling back", `${host} rolls everything back by itself. Yard Gate waits to see how that ends.`, null];
      case "committed":
        return [
          "Confirmed",
          <>
            {host} has what the plan says, since <Ago at={run.ended!} />. What lies in its folders keeps the lists it had:{" "}
            <Link to="?inside=">look into them</Link>.
          </>,
          null,
        ];
      case "rolled-back":
        return [
          "Rolled back",
          <>
            {host} is as it was before, since <Ago at={run.ended!} />.
          </>,
          null,
        ];
      case "abandoned":
        return [
          "Ended from here",
          <>
            Yard Gate does nothing more on {host}, since <Ago at={run.ended!} />. The steps show what was done by then.
          </>,
          null,
        ];
      case "partly-rolled-back":
        return ["Partly rolled back", `Some of it is still on ${host}. The steps show what was found there.`, null];
    }
  })();
  const share =
    run.state === "verifying"
      ? run.tried / Math.max(1, run.to_try)
      : run.state === "rolling-back"
        ? 1 - run.back / Math.max(1, run.done)
        : run.done / Math.max(1, run.total);
  return (
    <div
      className={`verdict ${run.state === "committed" ? "good" : run.state === "partly-rolled-back" || run.state === "abandoned" ? "bad" : ""}`}
      role="status"
    >
      <div className="verdict-title">{title}</div>
      {!run.ended && run.state !== "awaiting-confirmation" && <Progress share={share} />}
      <div>{says}</div>
      {run.destroys && <div className="why">Rolling back does not bring back what was deleted.</div>}
      {run.trouble && <div className="why">{run.trouble.charAt(0).toUpperCase() + run.trouble.slice(1)}.</div>}
      {canEdit && acts && <div className="acts">{acts}</div>}
      {trouble && <div className="why">{trouble}</div>}
    </div>
  );
}

/** Ending a run that does not end by itself: what stands then, and who looks after it. */
function EndRun({ run, host, onAsked }: { run: RunOut; host: string; onAsked: () => void }) {
  const { id } = usePlan();
  const end = async () => {
    try {
      await ask(api.POST("/api/v1/plans/{plan}/rollout/runs/{number}/abandon", { params: { path: { plan: id, number: run.number } } }));
    } finally {
      onAsked();
    }
  };
  return (
    <Popconfirm
      title="End it from here?"
      okText="End it"
      cancelText="Cancel"
      okButtonProps={{ danger: true }}
      onConfirm={end}
      placement="bottomRight"
      description={
        <div className="narrow">
          {run.done} of {plural(run.total, "step")} done, {run.back} rolled back. Yard Gate stops working on {host}. If {host} still
          watches, it rolls everything back by itself within {plural(run.seconds, "second")}.
        </div>
      }
    >
      <Button size="small">Stuck? End it from here …</Button>
    </Popconfirm>
  );
}

/** Minutes and seconds, down to none. */
function Countdown({ left }: { left: number }) {
  const [now, setNow] = useState(left);
  useEffect(() => {
    const timer = window.setInterval(() => setNow((old) => Math.max(0, old - 1)), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return (
    <span className="clock">
      {Math.floor(now / 60)}:{String(now % 60).padStart(2, "0")}
    </span>
  );
}

/** What test users found in the shares: for each promise, and elsewhere. */
function Tried({ run }: { run: RunOut }) {
  const promises = useStanding().data?.promises ?? [];
  if (run.to_try === 0) return null;
  return (
    <>
      <h3>
        Verified{" "}
        <span className="muted">
          {run.tried} of {run.to_try}
        </span>
      </h3>
      {run.tried === 0 && <p className="muted">{run.ended ? "Nothing was tried." : "When the last step is done, test users go in."}</p>}
      {run.promises.map((one) => {
        const keeping = promises.find((promise) => promise.promise.id === one.promise);
        return (
          <div key={one.promise} className="tried">
            <span className={one.differs.length || keeping?.broken ? "late" : "RW"} aria-hidden>
              {one.differs.length ? "!" : keeping?.broken ? "✗" : "✓"}
            </span>
            <span>{keeping?.words ?? one.promise}</span>
            <span className={one.differs.length || keeping?.broken ? "late" : "muted"}>
              {one.differs.length ? "not as planned" : keeping?.broken ? "broken, as the plan has it" : "as planned"},{" "}
              {plural(one.tried, "visit")}
            </span>
          </div>
        );
      })}
      {run.tried > 0 && (
        <p className={run.differs.length ? "late" : "RW"}>
          {run.differs.length === 0
            ? `${plural(run.tried, "visit")} of people to shares${run.over_nfs ? `, ${run.over_nfs} of them over NFS` : ""}, all as planned.`
            : `${plural(run.differs.length, "thing")} not as planned:`}
        </p>
      )}
      {run.differs.length > 0 && (
        <ul className="words" tabIndex={0}>
          {run.differs.map((said) => (
            <li key={said}>{said}</li>
          ))}
        </ul>
      )}
    </>
  );
}
