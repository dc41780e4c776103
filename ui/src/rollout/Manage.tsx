import { useQueryClient } from "@tanstack/react-query";
import { Checkbox, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { few, plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";

type Managed = Schemas["ManagedOut"];

const key = (one: Managed) => `${one.part} ${one.name}`;

/** Accounts and groups that were on the appliance before: left as they are, until an administrator lets the plan change them. */
export function Manage({ rollout }: { rollout: RolloutOut }) {
  const { administers } = usePlan();
  const [open, setOpen] = useState(false);
  const names = rollout.manageable.map((one) => one.name);
  const some = few(names, 4);
  return (
    <div className="said">
      <span>
        {some} {names.length === 1 ? "was" : "were"} on {whereTo(rollout.destination)} before this plan, so{" "}
        {names.length === 1 ? "it is" : "they are"} left as {names.length === 1 ? "it is" : "they are"}.{" "}
        {administers ? (
          <button className="plain link" onClick={() => setOpen(true)}>
            Let the plan change {names.length === 1 ? "it" : "them"} …
          </button>
        ) : (
          "An administrator can let the plan change them."
        )}
      </span>
      {open && <ManageDialog rollout={rollout} onClose={() => setOpen(false)} />}
    </div>
  );
}

function ManageDialog({ rollout, onClose }: { rollout: RolloutOut; onClose: () => void }) {
  const { id } = usePlan();
  const client = useQueryClient();
  const [out, setOut] = useState<ReadonlySet<string>>(new Set());
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const path = { params: { path: { plan: id } } };
  const chosen = rollout.manageable.filter((one) => !out.has(key(one)));
  const toggle = (one: Managed) =>
    setOut((old) => {
      const next = new Set(old);
      if (!next.delete(key(one))) next.add(key(one));
      return next;
    });
  const keep = async () => {
    setBusy(true);
    setTrouble("");
    try {
      const before = await ask(api.GET("/api/v1/plans/{plan}/rollout/managed", path));
      await ask(api.PUT("/api/v1/plans/{plan}/rollout/managed", { ...path, body: { managed: [...before, ...chosen] } }));
      await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
      onClose();
    } catch (problem) {
      setTrouble(message(problem));
      setBusy(false);
    }
  };
  return (
    <Modal
      title={`What the plan may change on ${whereTo(rollout.destination)}`}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText={`Let it change ${plural(chosen.length, "account or group", "accounts and groups")}`}
      cancelText="Cancel"
      okButtonProps={{ disabled: chosen.length === 0 }}
      confirmLoading={busy}
    >
      <p>
        These were there before. A rollout then makes them what the plan says: names, numbers, members, whether an account is open. Whoever
        may plan decides over them from then on.
      </p>
      <div className="choices tall">
        {rollout.manageable.map((one) => (
          <Checkbox key={key(one)} checked={!out.has(key(one))} onChange={() => toggle(one)}>
            {one.name} <span className="muted">{one.part === "accounts" ? "account" : "group"}</span>
          </Checkbox>
        ))}
      </div>
      {trouble && <div className="trouble">{trouble}</div>}
    </Modal>
  );
}
