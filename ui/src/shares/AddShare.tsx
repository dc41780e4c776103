import { Checkbox, Input, Modal, Select } from "antd";
import { useState } from "react";
import { freshId, pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

/** Offer a place under a name. */
export function AddShare({ onClose }: { onClose: (share: string | null) => void }) {
  const { outline, index, edit } = usePlan();
  const [place, setPlace] = useState<string>();
  const [name, setName] = useState("");
  const [over, setOver] = useState({ smb: true, nfs: false });
  const [busy, setBusy] = useState(false);
  const ready = place !== undefined && name.trim() !== "" && (over.smb || over.nfs);
  const add = async () => {
    if (!ready) return;
    setBusy(true);
    const taken = new Set(outline.shares.map((share) => share.id));
    let id = freshId(`share ${name}`, index);
    for (let n = 2; taken.has(id); n++) id = `${freshId(`share ${name}`, index)}-${n}`;
    const share = { id, name: name.trim(), place: place!, ...over, guests: "NA" as const, read_only: false, hidden: false, hide_unreadable: false, versions: false, recycle: false, administrator: null, hosts: [], squash: "root" as const, note: "" };
    const kept = await edit([{ op: "put-share", share }]);
    setBusy(false);
    if (kept) onClose(id);
  };
  return (
    <Modal title="Add a share" open onCancel={() => onClose(null)} okText="Share it" okButtonProps={{ disabled: !ready, loading: busy }} onOk={() => void add()}>
      <form onSubmit={(event) => { event.preventDefault(); void add(); }}>
        <label className="field"><span>Place to offer, with all below it</span><Select autoFocus aria-label="Place to offer" showSearch={{ optionFilterProp: "label" }} style={{ width: "100%" }} value={place} placeholder="Choose a place" options={outline.places.map((one) => ({ value: one.id, label: pathName(index, one.id) })).sort((a, b) => a.label.localeCompare(b.label))} onChange={(next: string) => { if (name === "" || name === index.places.get(place ?? "")?.name) setName(index.places.get(next)?.name ?? ""); setPlace(next); }} /></label>
        <label className="field"><span>Name that clients see</span><Input value={name} maxLength={80} onChange={(event) => setName(event.target.value)} /></label>
        <Checkbox checked={over.smb} onChange={(event) => setOver({ ...over, smb: event.target.checked })}>over SMB</Checkbox>
        <Checkbox checked={over.nfs} onChange={(event) => setOver({ ...over, nfs: event.target.checked })}>over NFS</Checkbox>
        {over.nfs && <p className="muted">No host may mount it until a host rule says so.</p>}
        <button type="submit" hidden />
      </form>
    </Modal>
  );
}
