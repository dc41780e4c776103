import { useQueryClient } from "@tanstack/react-query";
import { Button, Input, Modal, Popconfirm, Select } from "antd";
import { useState } from "react";
import { api, ask, message, type RolloutOut, type RolloutStep, type Schemas } from "../api/client";
import { plural } from "../parts/plural";
import { sizeWords } from "../parts/size";
import { isLocal, shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";

const LOST: Partial<Record<RolloutStep["part"], string>> = {
  accounts:
    "The account goes, and its password with it. Files of it stay, and show its number in place of a name. If rolled back, it gets a password that nobody knows.",
  groups: "The group goes. Files of it stay, and show its number in place of a name.",
  datasets: "The dataset goes, with all that is in it and its snapshots. Nothing brings it back.",
  folders:
    "The folder goes with everything that is in it, folders and files alike. Nothing brings it back, not even rolling back; only a copy from elsewhere does.",
};

/** What the appliance has and the plan does not speak of any more: it stays, shut and unshared, until somebody deletes it by its name. */
export function Leftovers({ rollout, onBegun }: { rollout: RolloutOut; onBegun: (run: number) => void }) {
  const { canEdit } = usePlan();
  const [asked, setAsked] = useState<RolloutStep | null>(null);
  const reachable = rollout.destination.kind !== "papers";
  if (rollout.leftovers.length === 0) return null;
  return (
    <>
      <h2>
        Left over <span className="muted">{rollout.leftovers.length}</span>
      </h2>
      <p className="muted">These are on the appliance, and not in the plan. They stay, disabled and shared with nobody.</p>
      {rollout.leftovers.map((step) => (
        <div key={step.id} className="row past">
          <span className="spread">
            {step.words.replace(/^delete the /, "").replace(/ and all that is in it$/, "")}
            {step.part === "accounts" && canEdit && reachable && rollout.known && <Owns account={step.name} />}
          </span>
          {canEdit && reachable && rollout.known && (
            <Button size="small" danger onClick={() => setAsked(step)}>
              Delete …
            </Button>
          )}
        </div>
      ))}
      {asked && (
        <Deleting
          step={asked}
          rollout={rollout}
          onClose={(run) => {
            setAsked(null);
            if (run !== null) onBegun(run);
          }}
        />
      )}
    </>
  );
}

/** What somebody who left owns on the appliance, and how to hand it over; asked there when somebody wants to know. */
function Owns({ account }: { account: string }) {
  const { id, index } = usePlan();
  const [found, setFound] = useState<Schemas["OwnedOut"][] | null>(null);
  const [says, setSays] = useState("");
  const [to, setTo] = useState<string | null>(null);
  const hand = async () => {
    setSays("Handing over …");
    try {
      const done = await ask(
        api.POST("/api/v1/plans/{plan}/inside/hand-over", { params: { path: { plan: id } }, body: { account, to: to! } }),
      );
      await look();
      setSays(
        `${plural(done.things, "file or folder is", "files and folders are")} ${shownName(index.users.get(to!)!)}’s now${done.left ? `; ${plural(done.left, "link or file with a second name was", "links and files with second names were")} left alone` : ""}.`,
      );
    } catch (problem) {
      setSays(message(problem));
    }
  };
  const look = async () => {
    setSays("Counting …");
    try {
      setFound(await ask(api.POST("/api/v1/plans/{plan}/inside/owned", { params: { path: { plan: id } }, body: { account } })));
      setSays("");
    } catch (problem) {
      setSays(message(problem));
    }
  };
  if (!found)
    return (
      <>
        {" "}
        <button className="plain link" onClick={() => void look()}>
          what does it own?
        </button>{" "}
        <span role="status" className="muted">
          {says}
        </span>
      </>
    );
  const all = found.reduce((sum, one) => sum + one.things, 0);
  const size = found.reduce((sum, one) => sum + one.size, 0);
  const some = found.filter((one) => one.things > 0);
  return (
    <div className="muted">
      {all === 0
        ? "Owns nothing in the plan’s folders."
        : `Owns ${plural(all, "file or folder", "files and folders")}${size > 0 ? `, ${sizeWords(size)}` : ""}: ${some.map((one) => `${one.things.toLocaleString()} in ${one.folder}`).join(", ")}. They keep what their lists say. `}
      {all > 0 && (
        <span className="row" style={{ flexWrap: "wrap", marginTop: 4 }}>
          <Select
            size="small"
            style={{ width: 220 }}
            aria-label={`Who gets what ${account} owns`}
            placeholder="Hand them to …"
            showSearch={{ optionFilterProp: "label" }}
            value={to}
            options={index.usersByName
              .filter((user) => isLocal(user) && user.name !== account && !index.inactive.has(user.id))
              .map((user) => ({ value: user.id, label: shownName(user) }))}
            onChange={setTo}
          />
          <Popconfirm
            title={`Hand ${plural(all, "file or folder", "files and folders")} of ${account} to ${to ? shownName(index.users.get(to)!) : "somebody"}?`}
            description="An owner can change a file’s list. Nothing keeps whose they were."
            okText="Hand over"
            cancelText="Cancel"
            onConfirm={() => void hand()}
          >
            <Button size="small" disabled={!to}>
              Hand over …
            </Button>
          </Popconfirm>
          or leave them: they are kept, and closed to {account}.
        </span>
      )}
      <div role="status">{says}</div>
    </div>
  );
}

/** Asks for the name of what is to be deleted, and says what is lost. */
function Deleting({ step, rollout, onClose }: { step: RolloutStep; rollout: RolloutOut; onClose: (run: number | null) => void }) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [typed, setTyped] = useState("");
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const name = step.name.split("/").pop()!;
  const begin = async () => {
    setBusy(true);
    setTrouble("");
    try {
      const left = rollout.steps.map((one) => one.id);
      const run = await ask(
        api.POST("/api/v1/plans/{plan}/rollout/apply", {
          params: { path: { plan: id } },
          body: { revision: rollout.revision, left, seconds: 300, delete: { [step.id]: typed }, end_sessions: false },
        }),
      );
      void client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
      onClose(run.number);
    } catch (problem) {
      setTrouble(message(problem));
      setBusy(false);
    }
  };
  return (
    <Modal
      title={`${step.words.charAt(0).toUpperCase()}${step.words.slice(1)}?`}
      open
      onCancel={() => onClose(null)}
      onOk={() => void begin()}
      okText={`Delete ${name}`}
      cancelText="Keep it"
      confirmLoading={busy}
      okButtonProps={{ danger: true, disabled: typed !== name }}
    >
      <p className="late">{LOST[step.part]}</p>
      <label className="field">
        <span>
          Type its name, <b>{name}</b>, to delete it on {whereTo(rollout.destination)}
        </span>
        <Input
          autoFocus
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
          onPressEnter={() => typed === name && void begin()}
        />
      </label>
      {trouble && <div className="trouble">{trouble}</div>}
    </Modal>
  );
}
