import { useQueryClient } from "@tanstack/react-query";
import { Checkbox, Modal, Select } from "antd";
import { useState } from "react";
import { api, ask, message, type RolloutOut } from "../api/client";
import { few, plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";
import { useSessions } from "./SignIns";

const WITHIN = [
  [120, "2 minutes"],
  [300, "5 minutes"],
  [900, "15 minutes"],
  [3600, "1 hour"],
] as const;

/** The last look before the steps are carried out. Closed with the number of the run that began, or null. */
export function PutThere({
  rollout,
  left,
  doing,
  broken,
  onClose,
}: {
  rollout: RolloutOut;
  left: string[];
  doing: number;
  broken: number;
  onClose: (run: number | null) => void;
}) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [seconds, setSeconds] = useState(300);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const host = whereTo(rollout.destination);
  const sessions = useSessions(rollout.again.length > 0);
  const stale = (sessions.data ?? []).filter((one) => one.stale);
  const files = stale.reduce((sum, one) => sum + one.files.length, 0);
  const [ending, setEnding] = useState(false);
  const begin = async () => {
    setBusy(true);
    setTrouble("");
    try {
      const run = await ask(
        api.POST("/api/v1/plans/{plan}/rollout/apply", {
          params: { path: { plan: id } },
          body: { revision: rollout.revision, left, seconds, delete: {}, end_sessions: ending },
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
      title={`${plural(doing, "step")} to ${host}`}
      open
      onCancel={() => onClose(null)}
      onOk={() => void begin()}
      okText="Start"
      cancelText="Cancel"
      confirmLoading={busy}
    >
      <p>
        Each step is done and read back before the next. Nothing is deleted. When the last one is done, test users go into the shares and
        look whether they find what the plan says.
      </p>
      <p>
        Then it waits to be confirmed. If nobody does within{" "}
        <Select
          size="small"
          aria-label="Confirm within"
          value={seconds}
          onChange={setSeconds}
          options={WITHIN.map(([value, label]) => ({ value, label }))}
        />
        , {host} rolls everything back by itself, even if Yard Gate or the network is gone.
      </p>
      {broken > 0 && (
        <p className="late">
          {plural(broken, "promise")} {broken === 1 ? "is" : "are"} broken in the plan, and will be on the appliance.
        </p>
      )}
      {rollout.again.length > 0 && (
        <p className="muted">
          {plural(rollout.again.length, "person", "people")} must sign in again for it to count for them.{" "}
          {sessions.isFetching
            ? "Asking who has a share open …"
            : sessions.isError
              ? `Who has a share open could not be asked: ${message(sessions.error)}`
              : stale.length === 0 && "None of them has a share open now."}
        </p>
      )}
      {stale.length > 0 && (
        <p>
          <Checkbox checked={ending} onChange={(event) => setEnding(event.target.checked)}>
            End what they have open when the steps are done:{" "}
            {few(
              stale.map((one) => `${one.account} at ${one.machine}`),
              4,
            )}
            {files > 0 && `; work that is not saved in ${plural(files, "open file")} may be lost`}
          </Checkbox>
        </p>
      )}
      {left.length > 0 && (
        <p className="muted">
          {plural(left.length, "step")} {left.length === 1 ? "stays" : "stay"} to be done later; where these matter, what is tried may
          differ from the plan.
        </p>
      )}
      {trouble && <div className="trouble">{trouble}</div>}
    </Modal>
  );
}
