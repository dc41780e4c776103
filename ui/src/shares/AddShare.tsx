import { Checkbox, Input, Modal, Select } from "antd";
import { useState } from "react";
import { NameHint, useNameSays } from "../parts/NameHint";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

/** Offer a place under a name. */
export function AddShare({ onClose }: { onClose: (share: string | null) => void }) {
  const plan = usePlan();
  const { outline, index } = plan;
  const [place, setPlace] = useState<string>();
  const [name, setName] = useState("");
  const [over, setOver] = useState({ smb: true, nfs: false });
  const [busy, setBusy] = useState(false);
  const says = useNameSays("share", name);
  const ready = place !== undefined && name.trim() !== "" && !says?.trouble && (over.smb || over.nfs);
  const add = async () => {
    if (!ready) return;
    setBusy(true);
    const share = {
      name: name.trim(),
      place: place!,
      ...over,
      guests: "NA" as const,
      read_only: false,
      hidden: false,
      hide_unreadable: false,
      versions: false,
      recycle: false,
      administrator: null,
      hosts: [],
      squash: "root" as const,
      of_host: false,
      note: "",
    };
    const made = await plan.add(`share ${name}`, (id) => [{ op: "put-share", share: { ...share, id } }]);
    setBusy(false);
    if (made) onClose(made);
  };
  return (
    <Modal
      title="Add a share"
      open
      onCancel={() => onClose(null)}
      okText="Share it"
      okButtonProps={{ disabled: !ready, loading: busy }}
      onOk={() => void add()}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void add();
        }}
      >
        <label className="field">
          <span>Place to offer, with all below it</span>
          <Select
            autoFocus
            aria-label="Place to offer"
            showSearch={{ optionFilterProp: "label" }}
            style={{ width: "100%" }}
            value={place}
            placeholder="Choose a place"
            options={outline.places
              .map((one) => ({ value: one.id, label: pathName(index, one.id) }))
              .sort((a, b) => a.label.localeCompare(b.label))}
            onChange={(next: string) => {
              if (name === "" || name === index.places.get(place ?? "")?.name) setName(index.places.get(next)?.name ?? "");
              setPlace(next);
            }}
          />
        </label>
        <label className="field">
          <span>Name that clients see</span>
          <Input
            value={name}
            maxLength={80}
            status={says?.trouble ? "error" : undefined}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <NameHint says={says} name={name} onTake={setName} />
        <Checkbox checked={over.smb} onChange={(event) => setOver({ ...over, smb: event.target.checked })}>
          over SMB
        </Checkbox>
        <Checkbox checked={over.nfs} onChange={(event) => setOver({ ...over, nfs: event.target.checked })}>
          over NFS
        </Checkbox>
        {over.nfs && <p className="muted">No host may mount it until a host rule says so.</p>}
        <button type="submit" hidden />
      </form>
    </Modal>
  );
}
