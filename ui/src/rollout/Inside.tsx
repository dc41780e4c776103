import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Modal } from "antd";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { Progress } from "../parts/Progress";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";

type Push = Schemas["PushOut"];
type Do = Schemas["PushDo"]["do"];
type Folder = Schemas["InsideFolder"];

/** What lies in the planned folders on the appliance, what of it has something else than its folder gives, and pushing that down over it. */
export function Inside({ rollout, onClose }: { rollout: RolloutOut; onClose: () => void }) {
  const { id, canEdit } = usePlan();
  const client = useQueryClient();
  const key = ["inside", id];
  const found = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/inside", { params: { path: { plan: id } } })),
  });
  const number = found.data?.last?.number;
  const followed = useQuery({
    queryKey: [...key, number],
    enabled: number !== undefined,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/inside/{number}", { params: { path: { plan: id, number: number! } } })),
    refetchInterval: (query) => (query.state.data?.state === "under way" ? 500 : false),
  });
  const [out, setOut] = useState<ReadonlySet<string>>(new Set());
  const [chosen, setChosen] = useState<string>();
  const [sure, setSure] = useState(false);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  if (!found.data)
    return found.isError ? (
      <div className="work">
        <div className="trouble">{message(found.error)}</div>
        <Button onClick={() => void found.refetch()}>Try again</Button>
      </div>
    ) : (
      <div className="loading" role="status">
        Asking which folders there are …
      </div>
    );
  const { folders } = found.data;
  const last = followed.data ?? found.data.last;
  const under = last?.state === "under way";
  const looked = new Map(last?.folders.map((one) => [one.folder, one]));
  const wanted = folders.filter((folder) => !out.has(folder));
  const shown = looked.get(chosen ?? "") ?? last?.folders.find((one) => one.some.length > 0);
  const act = async (what: () => Promise<unknown>) => {
    setBusy(true);
    setTrouble("");
    try {
      await what();
      await client.invalidateQueries({ queryKey: key });
    } catch (problem) {
      setTrouble(message(problem));
    }
    setBusy(false);
  };
  const look = () =>
    void act(() => ask(api.POST("/api/v1/plans/{plan}/inside", { params: { path: { plan: id } }, body: { folders: wanted } })));
  const tell = (what: Do) =>
    void act(() =>
      ask(
        api.POST("/api/v1/plans/{plan}/inside/{number}/do", { params: { path: { plan: id, number: last!.number } }, body: { do: what } }),
      ),
    );
  const toggle = (folder: string) =>
    setOut((old) => {
      const next = new Set(old);
      if (!next.delete(folder)) next.add(folder);
      return next;
    });
  return (
    <>
      <div className="work">
        <div className="tools">
          <b>What lies in the folders of {whereTo(rollout.destination)}</b>
          {last && (
            <span className="muted">
              looked into by {last.by} · <Ago at={last.at} />
            </span>
          )}
          <span className="spread" />
          {canEdit && !under && folders.length > 0 && (
            <Button size="small" type={last ? "default" : "primary"} loading={busy} disabled={wanted.length === 0} onClick={look}>
              {wanted.length < folders.length ? `Look into ${plural(wanted.length, "folder")}` : "Look into all"}
            </Button>
          )}
          <Button size="small" onClick={onClose}>
            Back to the steps
          </Button>
        </div>
        <div className="sentences">
          <p className="muted">
            A new list on a folder does not reach what is in it already: that keeps the list it was made with, or was brought with. Pushed
            down, each thing gets what it would have if its owner made it there now. Folders of the plan have lists of their own and are not
            touched from above.
          </p>
          {trouble && <div className="trouble">{trouble}</div>}
          {followed.isError && <div className="said">Yard Gate does not answer; trying again.</div>}
          {folders.length === 0 && (
            <div className="empty">
              <h2>No planned folder is known to be there</h2>
              <p className="muted">Look what the appliance has, or put the plan there; then what lies in its folders can be looked into.</p>
            </div>
          )}
          {folders.map((folder) => (
            <Row
              key={folder}
              folder={folder}
              counted={looked.get(folder)}
              does={last?.does ?? "look"}
              checked={!out.has(folder)}
              disabled={!canEdit || under}
              shown={folder === shown?.folder}
              onToggle={() => toggle(folder)}
              onChoose={() => setChosen(folder)}
            />
          ))}
        </div>
      </div>
      <Side label="How it goes">
        <h2 className="sr">How it goes</h2>
        {last ? (
          <Verdict last={last} canEdit={canEdit} busy={busy} tell={tell} onPush={() => setSure(true)} />
        ) : (
          <p className="muted">Nobody has looked into the folders yet.</p>
        )}
        {shown && shown.some.length > 0 && (
          <>
            <h3>
              {last?.does === "look" ? "Different" : "Was different"} in {tail(shown.folder)}
            </h3>
            {shown.some.map((thing) => (
              <div key={thing.name} className="thing">
                <span>{thing.name.slice(shown.folder.length + 1)}</span>
                <span className="muted">{thing.words}</span>
              </div>
            ))}
            {shown.otherwise > shown.some.length && (
              <p className="muted">… and {(shown.otherwise - shown.some.length).toLocaleString()} more.</p>
            )}
          </>
        )}
      </Side>
      {sure && last && (
        <Sure
          last={last}
          host={whereTo(rollout.destination)}
          onClose={(yes) => {
            setSure(false);
            if (yes) tell("push");
          }}
        />
      )}
    </>
  );
}

const tail = (path: string) => path.split("/").slice(2).join("/");
const sum = (last: Push, what: "things" | "seen" | "otherwise" | "changed" | "kept" | "linked") =>
  last.folders.reduce((all, one) => all + one[what], 0);

/** A folder, and what was found in it. */
function Row({
  folder,
  counted,
  does,
  checked,
  disabled,
  shown,
  onToggle,
  onChoose,
}: {
  folder: string;
  counted?: Folder;
  does: Push["does"];
  checked: boolean;
  disabled: boolean;
  shown: boolean;
  onToggle: () => void;
  onChoose: () => void;
}) {
  const says = ((): [string, string] => {
    if (!counted || (counted.things === 0 && counted.seen === 0)) return ["muted", counted ? "nothing in it" : ""];
    const seen = counted.seen < counted.things ? `${counted.seen.toLocaleString()} of ` : "";
    const things = `${seen}${plural(counted.things, "thing")}`;
    if (counted.kept > 0) return ["late", `${things}, ${counted.kept.toLocaleString()} could not be changed`];
    if (does === "look")
      return counted.otherwise > 0
        ? ["late", `${things}, ${counted.otherwise.toLocaleString()} different`]
        : ["muted", `${things}, as inherited`];
    if (counted.changed === 0)
      return ["muted", counted.seen < counted.things ? things : `${things}, ${does === "push" ? "as inherited" : "as before"}`];
    return ["", `${things}, ${counted.changed.toLocaleString()} ${does === "push" ? "pushed over" : "put back"}`];
  })();
  return (
    <div className="step">
      <Checkbox checked={checked} disabled={disabled} aria-label={`Look into ${folder}`} onChange={onToggle} />
      <button className="sentence" aria-pressed={shown} onClick={onChoose}>
        <span>{folder}</span>
        <span className={says[0]}>{says[1]}</span>
      </button>
    </div>
  );
}

const DOING: Partial<Record<Push["does"], string>> = { look: "Looking", push: "Pushing down", "put back": "Putting back" };

/** How it stands, and what can be done about it. */
function Verdict({
  last,
  canEdit,
  busy,
  tell,
  onPush,
}: {
  last: Push;
  canEdit: boolean;
  busy: boolean;
  tell: (what: Do) => void;
  onPush: () => void;
}) {
  const [things, seen, otherwise, changed, kept] = (["things", "seen", "otherwise", "changed", "kept"] as const).map((what) =>
    sum(last, what),
  ) as [number, number, number, number, number];
  const linked = sum(last, "linked");
  const back = last.pushed.length > 0 && (
    <Button disabled={busy} onClick={() => tell("put back")}>
      Put back
    </Button>
  );
  const again = (
    <Button disabled={busy} onClick={() => tell("look")}>
      Look again
    </Button>
  );
  const [title, says, acts] = ((): [string, ReactNode, ReactNode] => {
    switch (last.state) {
      case "under way":
        return [
          `${DOING[last.does]}: ${seen.toLocaleString()} of ${things.toLocaleString()}`,
          last.does === "look"
            ? `${otherwise.toLocaleString()} different so far.`
            : `${changed.toLocaleString()} changed and read back so far.`,
          <Button key="stop" disabled={busy} onClick={() => tell("stop")}>
            Stop
          </Button>,
        ];
      case "stopped":
        return [
          `Stopped at ${seen.toLocaleString()}`,
          last.does === "push"
            ? `${plural(changed, "thing")} ${changed === 1 ? "has" : "have"} what ${changed === 1 ? "its" : "their"} folder gives. Going on does the rest; what was done is passed over.`
            : "Going on begins with another look.",
          <>
            {back}
            <Button type="primary" disabled={busy} onClick={() => tell(last.does)}>
              Go on
            </Button>
          </>,
        ];
      case "failed":
        return [
          "It could not go on",
          "What was done so far stands.",
          <>
            {back}
            <Button type="primary" disabled={busy} onClick={() => tell(last.does)}>
              Try again
            </Button>
          </>,
        ];
      case "done":
        if (last.does === "look")
          return otherwise === 0
            ? [
                "Everything as inherited",
                `${plural(things, "thing")} looked at.`,
                <>
                  {back}
                  {again}
                </>,
              ]
            : [
                `${plural(otherwise, "thing")} different`,
                `of ${things.toLocaleString()}. People get there what those lists say, not what the plan says.`,
                <>
                  {back}
                  {again}
                  <Button type="primary" disabled={busy} onClick={onPush}>
                    Push down …
                  </Button>
                </>,
              ];
        if (last.does === "push")
          return [
            `Pushed down over ${changed.toLocaleString()}`,
            kept > 0
              ? `${plural(kept, "thing")} could not be changed, and ${kept === 1 ? "keeps" : "keep"} what ${kept === 1 ? "it has" : "they have"}.`
              : "Each was read back.",
            <>
              {back}
              {again}
            </>,
          ];
        return [`Put back: ${changed.toLocaleString()}`, "They have what they had before.", again];
    }
  })();
  return (
    <div
      className={`verdict ${last.state === "done" && kept === 0 && (last.does !== "look" || otherwise === 0) ? "good" : last.state === "failed" ? "bad" : ""}`}
      role="status"
    >
      <div className="verdict-title">{title}</div>
      {last.state === "under way" && <Progress share={seen / Math.max(1, things)} />}
      <div>{says}</div>
      {linked > 0 && (
        <div>
          {plural(linked, "file")} left alone: {linked === 1 ? "it has" : "they have"} a second name (a hard link), perhaps in another
          folder.
        </div>
      )}
      {last.snapshots.length > 0 && (
        <div>
          As it was before, in snapshots: <code>{last.snapshots.join(", ")}</code>.{" "}
          {canEdit && <Link to="?snapshots=">See what going back would change</Link>}
        </div>
      )}
      {last.trouble && <div className="why">{last.trouble.charAt(0).toUpperCase() + last.trouble.slice(1)}.</div>}
      {canEdit && <div className="acts">{acts}</div>}
    </div>
  );
}

/** The last look before lists are pushed down. */
function Sure({ last, host, onClose }: { last: Push; host: string; onClose: (yes: boolean) => void }) {
  const some = last.folders.filter((one) => one.otherwise > 0);
  return (
    <Modal
      title={`Push down over ${plural(sum(last, "otherwise"), "thing")} on ${host}`}
      open
      onCancel={() => onClose(false)}
      onOk={() => onClose(true)}
      okText="Push down"
      cancelText="Cancel"
      okButtonProps={{ danger: true }}
    >
      <p>
        What they have now is overwritten: lists that somebody gave to single files, too. Whose they are stays. What each had is kept here,
        and <i>Put back</i> brings it back.
      </p>
      <ul className="words" tabIndex={0}>
        {some.slice(0, 12).map((one) => (
          <li key={one.folder}>
            {one.otherwise.toLocaleString()} in {one.folder}
          </li>
        ))}
        {some.length > 12 && <li>and in {some.length - 12} more folders</li>}
      </ul>
      <p className="muted">
        It can be stopped at any time, and gone on with. Open files stay open; the new list counts when they are opened again.
      </p>
    </Modal>
  );
}
