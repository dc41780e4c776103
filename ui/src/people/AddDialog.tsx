import { Input, Modal, Select } from "antd";
import { useState } from "react";
import type { Edit } from "../api/client";
import { usePlan } from "../plan/PlanContext";

/** Add a person, a service or a group. */
export function AddDialog({ kind, onClose }: { kind: "person" | "service" | "group"; onClose: (added: string | null) => void }) {
  const plan = usePlan();
  const { index } = plan;
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [groups, setGroups] = useState<string[]>([]);
  const [busy, setBusy] = useState(false);
  const add = async () => {
    if (!name.trim()) return;
    setBusy(true);
    const made = await plan.add(fullName.trim() || name.trim(), (id) => {
      const base = { id, name: name.trim(), origin: "local", gone: false, note: "" };
      const first: Edit =
        kind === "group"
          ? { op: "put-group", group: { ...base, members: [], unknown: [] } }
          : { op: "put-user", user: { ...base, kind, full_name: fullName.trim(), enabled: true, aliases: [], jobs: [] } };
      return [first, ...groups.map((group): Edit => ({ op: "join", group, member: id }))];
    });
    setBusy(false);
    if (made) onClose(made);
  };
  return (
    <Modal
      title={`Add a ${kind}`}
      open
      onCancel={() => onClose(null)}
      okText={`Add ${kind}`}
      okButtonProps={{ disabled: !name.trim(), loading: busy }}
      onOk={() => void add()}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void add();
        }}
      >
        {kind === "person" && (
          <label className="field">
            <span>Full name</span>
            <Input
              autoFocus
              value={fullName}
              maxLength={255}
              onChange={(event) => {
                const next = event.target.value;
                setName((old) => (old === "" || old === proposed(fullName) ? proposed(next) : old));
                setFullName(next);
              }}
            />
          </label>
        )}
        <label className="field">
          <span>{kind === "group" ? "Name" : "Sign-in name on the file server"}</span>
          <Input autoFocus={kind !== "person"} value={name} maxLength={255} onChange={(event) => setName(event.target.value)} />
        </label>
        <label className="field">
          <span>Member of</span>
          <Select
            mode="multiple"
            style={{ width: "100%" }}
            value={groups}
            onChange={setGroups}
            optionFilterProp="label"
            options={index.groupsByName.map((group) => ({ value: group.id, label: group.name }))}
          />
        </label>
        <button type="submit" hidden />
      </form>
    </Modal>
  );
}

function proposed(fullName: string): string {
  const parts = fullName
    .normalize("NFKD")
    .toLowerCase()
    .replace(/[^a-z\s-]/g, "")
    .trim()
    .split(/\s+/)
    .filter(Boolean);
  return parts.length > 1 ? `${parts[0]}.${parts.at(-1)}` : (parts[0] ?? "");
}
