import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { useEffect, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { few, plural } from "../parts/plural";
import { Progress } from "../parts/Progress";
import { Side } from "../parts/Side";
import { ago, when } from "../parts/time";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";

type Look = Schemas["PushOut"];
type Since = Schemas["GoingBackOut"];
type Sort = Schemas["DifferingOut"]["sort"];
type Do = Schemas["PushDo"]["do"];

const SHOWN = 6; // snapshots of a dataset, before somebody asks for the others

/** The snapshots of the plan's datasets on the appliance, what is otherwise since one, and going back to it. */
export function Snapshots({ rollout, onClose }: { rollout: RolloutOut; onClose: () => void }) {
  const { id, canEdit } = usePlan();
  const client = useQueryClient();
  const key = ["of-plan", id, "snapshots"];
  const found = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/inside/snapshots", { params: { path: { plan: id } } })),
    staleTime: 0,
    retry: false,
  });
  const [begun, setBegun] = useState<number>();
  const number = begun ?? found.data?.last?.number;
  const followed = useQuery({
    queryKey: ["inside", id, number],
    enabled: number !== undefined,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/inside/{number}", { params: { path: { plan: id, number: number! } } })),
    refetchInterval: (query) => (query.state.data?.state === "under way" ? 500 : false),
  });
  const [all, setAll] = useState<ReadonlySet<string>>(new Set());
  const [busy, setBusy] = useState(false);
  const [sure, setSure] = useState(false);
  const [trouble, setTrouble] = useState("");
  const last = followed.data ?? (begun === undefined ? found.data?.last : undefined);
  const under = last?.state === "under way";
  const went = last?.does === "go back" && !under ? last.number : undefined;
  useEffect(() => {
    if (went !== undefined) void client.invalidateQueries({ queryKey: ["of-plan", id, "snapshots"] }); // there is one more
  }, [went, client, id]);
  const act = async (what: () => Promise<Look>) => {
    setBusy(true);
    setTrouble("");
    try {
      const look = await what();
      client.setQueryData(["inside", id, look.number], look);
      setBegun(look.number);
    } catch (problem) {
      setTrouble(message(problem));
    }
    setBusy(false);
  };
  const compare = (dataset: string, snapshot: string) =>
    void act(() => ask(api.POST("/api/v1/plans/{plan}/inside/snapshots", { params: { path: { plan: id } }, body: { dataset, snapshot } })));
  const tell = (what: Do) =>
    void act(() =>
      ask(
        api.POST("/api/v1/plans/{plan}/inside/{number}/do", { params: { path: { plan: id, number: last!.number } }, body: { do: what } }),
      ),
    );
  const datasets = found.data?.datasets ?? [];
  const missing = found.data?.missing ?? [];
  const having = datasets.filter((one) => one.snapshots.length > 0);
  const without = datasets.filter((one) => one.snapshots.length === 0).map((one) => one.dataset);
  return (
    <>
      <div className="work">
        <div className="tools">
          <b>Snapshots on {whereTo(rollout.destination)}</b>
          <span className="spread" />
          <Button size="small" onClick={onClose}>
            Back to the steps
          </Button>
        </div>
        <div className="sentences">
          <p className="muted">
            Going back makes everything in a dataset what it was then: files, folders, and who may do what with them. Work that was done
            since goes back, too, so that is shown first. Nothing is lost by it: a snapshot of now is made before.
          </p>
          {trouble && <div className="trouble">{trouble}</div>}
          {found.isPending && (
            <div className="loading" role="status">
              Asking which snapshots there are …
            </div>
          )}
          {found.isError && (
            <div className="trouble">
              {message(found.error)}{" "}
              <button className="plain link" onClick={() => void found.refetch()}>
                Try again
              </button>
            </div>
          )}
          {followed.isError && <div className="said">Yard Gate does not answer; trying again.</div>}
          {missing.length > 0 && (
            <p className="trouble">
              Not on {whereTo(rollout.destination)} now, though rolled out: {few(missing, 6)}. “Read what it has”, among the steps, says
              what else is gone.
            </p>
          )}
          {found.data && datasets.length === 0 && missing.length === 0 && (
            <div className="empty">
              <h2>No dataset of the plan is known to be there</h2>
              <p className="muted">
                Plain folders have no snapshots. What a pool is on the host, and how many are kept, is said under Storage.
              </p>
            </div>
          )}
          {having.map(({ dataset, snapshots }) => {
            const shown = all.has(dataset) ? snapshots : snapshots.slice(0, SHOWN);
            return (
              <section key={dataset}>
                <h2>
                  {dataset} <span className="muted">{plural(snapshots.length, "snapshot")}</span>
                </h2>
                {shown.map((snapshot) => {
                  const chosen = last?.folders[0]?.folder === dataset && last.back_to === snapshot;
                  return (
                    <button
                      key={snapshot}
                      className="moment"
                      aria-pressed={chosen}
                      disabled={!canEdit || busy || under}
                      onClick={() => compare(dataset, snapshot)}
                    >
                      <span>{when(made(snapshot))}</span>
                      <span className="muted">{ago(made(snapshot))}</span>
                    </button>
                  );
                })}
                {snapshots.length > shown.length && (
                  <button className="plain link" onClick={() => setAll((old) => new Set([...old, dataset]))}>
                    {snapshots.length - shown.length} older
                  </button>
                )}
              </section>
            );
          })}
          {without.length > 0 && (
            <p className="muted">
              Without snapshots: {few(without, 6)}. <Link to={`/p/${id}/storage`}>Storage</Link> says of what any are made.
            </p>
          )}
        </div>
      </div>
      <Side label="What goes back">
        <h2 className="sr">What goes back</h2>
        {last ? (
          <Verdict last={last} others={datasets} busy={busy} tell={tell} onGo={() => setSure(true)} onCompare={compare} />
        ) : (
          <p className="muted">Choose a snapshot: what is otherwise now than it was then is shown here. Nothing is changed by that.</p>
        )}
        {last?.since && last.since.some.length > 0 && (
          <>
            <h3>{last.does === "compare" ? "For example" : "Some of it"}</h3>
            {last.since.some.map((one) => (
              <div key={`${one.sort} ${one.name}`} className="thing">
                <span>{one.name || "the dataset itself"}</span>
                <span className="muted">
                  {SAID[one.sort]}
                  {one.words && `: ${one.words}`}
                </span>
              </div>
            ))}
          </>
        )}
      </Side>
      {sure && last?.since && (
        <Modal
          title={`Go back to ${when(made(last.back_to))}`}
          open
          onCancel={() => setSure(false)}
          onOk={() => {
            setSure(false);
            tell("go back");
          }}
          okText="Go back"
          cancelText="Cancel"
          okButtonProps={{ danger: true }}
        >
          <p>
            Everything in <b>{last.folders[0]!.folder}</b> on {whereTo(rollout.destination)} becomes what it was {ago(made(last.back_to))}:
          </p>
          <Sorts since={last.since} />
          <Whose since={last.since} />
          <p className="muted">
            Who has a file of it open should close it before: what is saved afterwards is saved as they have it. What it is now is kept in a
            snapshot, by which this can be undone. Shares, accounts and groups stay as they are.
          </p>
        </Modal>
      )}
    </>
  );
}

/** When a snapshot was made: its name says so, in UTC. */
const made = (snapshot: string) => snapshot.slice(5).replace(/^(\d+)\.(\d+)\.(\d+)-(\d+)\.(\d+)\.(\d+)$/, "$1-$2-$3T$4:$5:$6Z");
const SAID: Record<Sort, string> = {
  changed: "changed",
  new: "made since",
  gone: "deleted since",
  rights: "other rights",
  left: "stays as it is",
};
const sum = (since: Since) => since.changed + since.new + since.gone + since.rights;

/** How much of each sort, and what becomes of it. */
function Sorts({ since }: { since: Since }) {
  const lines: [number, string, string][] = [
    [since.changed, "changed since", "with the contents they had"],
    [since.new, "made since", "gone"],
    [since.gone, "deleted since", "there again"],
    [since.rights, "with another owner, group or list since", "with those they had"],
  ];
  return (
    <ul className="words">
      {lines
        .filter(([count]) => count > 0)
        .map(([count, what, then]) => (
          <li key={what}>
            <b>{count.toLocaleString()}</b> {what}: then {then}
          </li>
        ))}
    </ul>
  );
}

/** Whose work that is. */
function Whose({ since }: { since: Since }) {
  const people = Object.entries(since.people).sort((a, b) => b[1] - a[1]);
  if (people.length === 0) return null;
  const files = people.reduce((all, [, count]) => all + count, 0);
  return (
    <p>
      {plural(files, "changed or new file")}
      {files === 1 ? " belongs to " : " belong to "}
      {few(people.map(([who, count]) => (people.length === 1 ? who : `${who} (${count.toLocaleString()})`)))}
      {since.latest && <>; written last {ago(since.latest)}</>}.
    </p>
  );
}

/** How it stands, and what can be done about it. */
function Verdict({
  last,
  others,
  busy,
  tell,
  onGo,
  onCompare,
}: {
  last: Look;
  others: Schemas["SnapshotsOf"][];
  busy: boolean;
  tell: (what: Do) => void;
  onGo: () => void;
  onCompare: (dataset: string, snapshot: string) => void;
}) {
  const { canEdit } = usePlan();
  const { folder, things, seen } = last.folders[0]!;
  const since = last.since!;
  const count = sum(since);
  const comparing = last.does === "compare";
  const below = others.filter((one) => one.dataset.startsWith(`${folder}/`)).map((one) => one.dataset.slice(folder.length + 1));
  const undo = last.snapshots[0]?.slice(folder.length + 1);
  const [title, says, acts] = ((): [string, ReactNode, ReactNode] => {
    switch (last.state) {
      case "under way":
        return [
          `${comparing ? "Comparing" : "Going back"}: ${seen.toLocaleString()} of ${things.toLocaleString()}`,
          comparing ? `${plural(count, "thing")} otherwise so far.` : `${plural(count, "thing")} went back so far.`,
          <Button key="stop" disabled={busy} onClick={() => tell("stop")}>
            Stop
          </Button>,
        ];
      case "stopped":
      case "failed":
        return [
          last.state === "stopped" ? "Stopped" : "It could not go on",
          comparing ? "Nothing was changed." : "What went back so far stays so. Going on does the rest.",
          <Button key="on" type="primary" disabled={busy} onClick={() => tell(last.does)}>
            {last.state === "stopped" ? "Go on" : "Try again"}
          </Button>,
        ];
      case "done":
        if (!comparing)
          return [
            since.left > 0 ? `${plural(count, "thing")} went back, ${since.left.toLocaleString()} did not` : "It is what it was",
            <>
              {since.left === 0 && `${plural(count, "thing")} went back. `}Lists of folders may be older than the plan now:{" "}
              <i>Read what it has</i>, and roll out what differs.
            </>,
            undo && (
              <Button disabled={busy} onClick={() => onCompare(folder, undo)}>
                Undo …
              </Button>
            ),
          ];
        return count === 0
          ? ["Nothing is otherwise", `${plural(since.things, "thing")} compared.`, null]
          : [
              `${plural(count, "thing")} would go back`,
              <>
                <Sorts since={since} />
                <Whose since={since} />
              </>,
              <>
                <Button disabled={busy} onClick={() => tell("compare")}>
                  Compare again
                </Button>
                <Button type="primary" disabled={busy} onClick={onGo}>
                  Go back …
                </Button>
              </>,
            ];
    }
  })();
  const well = last.state === "done" && since.left === 0 && (!comparing || count === 0);
  return (
    <>
      <p className="muted">
        {folder} and its snapshot of {when(made(last.back_to))}. By {last.by}, <Ago at={last.at} />.
      </p>
      <div className={`verdict ${well ? "good" : last.state === "failed" ? "bad" : ""}`} role="status">
        <div className="verdict-title">{title}</div>
        {last.state === "under way" && <Progress share={seen / Math.max(1, things)} />}
        <div>{says}</div>
        {since.left > 0 && (
          <div className="why">
            {plural(since.left, "thing")} {comparing ? "cannot go back, and would stay" : "could not go back, and stayed"}: the first below.
          </div>
        )}
        {below.length > 0 && (
          <div>
            {few(below, 3)} below{" "}
            {below.length === 1 ? "is a dataset of its own, and stays as it is" : "are datasets of their own, and stay as they are"}.
          </div>
        )}
        {undo && last.state === "done" && <div>What it was before is in the snapshot of {when(made(undo))}.</div>}
        {last.trouble && <div className="why">{last.trouble.charAt(0).toUpperCase() + last.trouble.slice(1)}.</div>}
        {canEdit && acts && <div className="acts">{acts}</div>}
      </div>
      {comparing && last.state === "done" && count > 0 && (
        <p className="muted">Single files can be had without it: where their share shows earlier versions, people take them from there.</p>
      )}
    </>
  );
}
