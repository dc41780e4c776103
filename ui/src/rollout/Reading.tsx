import { useQueryClient } from "@tanstack/react-query";
import { Button, Input, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

type Drift = Schemas["DriftOut"];

/** What the host has, as it was read there: shows what was changed behind the plan's back, and takes it as what the appliance has. */
export function Reading({ rollout, onClose }: { rollout: RolloutOut; onClose: () => void }) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [drift, setDrift] = useState<Drift | null>(null);
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const tell = async (keep: boolean) => {
    setBusy(true);
    setTrouble("");
    try {
      const system = parsed(text);
      const found = await ask(
        api.POST("/api/v1/plans/{plan}/rollout/reading", {
          params: { path: { plan: id } },
          body: { revision: rollout.revision, system, keep },
        }),
      );
      setDrift(found);
      if (keep) {
        await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
        onClose();
      }
    } catch (error) {
      setTrouble(message(error));
    }
    setBusy(false);
  };
  const take = (next: string) => {
    setText(next);
    setDrift(null);
  };
  return (
    <Modal
      title="What the host has"
      width={640}
      open
      onCancel={onClose}
      footer={[
        <Button key="leave" onClick={onClose}>
          Cancel
        </Button>,
        drift ? (
          <Button key="take" type="primary" loading={busy} onClick={() => void tell(true)}>
            Take it as what the appliance has
          </Button>
        ) : (
          <Button key="look" type="primary" loading={busy} disabled={!text.trim()} onClick={() => void tell(false)}>
            Compare
          </Button>
        ),
      ]}
    >
      <p>
        On the file server, as root: <code>./yard rollout read plan.json --top {rollout.destination.top} -o now.json</code>. Paste what is
        in that file here, or choose it.
      </p>
      <Input.TextArea
        aria-label="What rollout read wrote"
        value={text}
        rows={5}
        onChange={(event) => take(event.target.value)}
        style={{ fontFamily: "monospace", fontSize: 12 }}
      />
      <p>
        <input
          type="file"
          aria-label="A file that rollout read wrote"
          accept=".json,application/json"
          onChange={(event) => void event.target.files?.[0]?.text().then(take)}
        />
      </p>
      {trouble && <div className="trouble">{trouble}</div>}
      {drift &&
        (drift.first ? (
          <p>Nothing was known of the host before. The steps then lead from what it has to the plan.</p>
        ) : drift.total === 0 ? (
          <p className="RW">Everything is as the last rollout left it.</p>
        ) : (
          <>
            <h3>{plural(drift.total, "thing")} changed behind the plan’s back</h3>
            <ul className="words" tabIndex={0}>
              {drift.words.map((words, number) => (
                <li key={number}>{words}</li>
              ))}
            </ul>
            <p className="muted">
              Taken as what the appliance has, the next steps put it right; what is meant to stay has to come into the plan.
            </p>
          </>
        ))}
    </Modal>
  );
}

/** What the text says; throws with a reason where it is not what `rollout read` writes. */
function parsed(text: string): Schemas["System"] {
  try {
    return JSON.parse(text) as Schemas["System"];
  } catch {
    throw new Error("This is not what rollout read wrote: it is not JSON. Was it cut off?");
  }
}
