import { Checkbox, Modal, Select } from "antd";
import { useState } from "react";
import { message, type Edit, type Place } from "../api/client";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { Effects, useEffectOf } from "../parts/Effects";
import { useWhos } from "./editors";

/** A folder in this place for every member of a group, with only that member and named keepers in it. */
export function OneEach({ place, onClose }: { place: Place; onClose: () => void }) {
  const { index, canEdit, edit } = usePlan();
  const [group, setGroup] = useState<string | null>(place.personal_folders?.group ?? null);
  const [keepers, setKeepers] = useState<string[]>(place.personal_folders?.managers ?? []);
  const [shared, setShared] = useState(place.personal_folders?.shared ?? false);
  const whos = useWhos();
  const edits: Edit[] = [{ op: "put-place", place: { ...place, personal_folders: group ? { group, managers: keepers, shared } : null } }];
  const same = JSON.stringify(edits[0]) === JSON.stringify({ op: "put-place", place });
  const effect = useEffectOf(same ? [] : edits);
  const keep = async () => {
    if (await edit(edits)) onClose();
  };
  const along = effect.data?.along ?? [];
  return (
    <Modal
      title={`Personal folders in ${pathName(index, place.id)}`}
      width={600}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText={!place.personal_folders ? "Make the folders" : group ? "Apply" : "Stop keeping step"}
      cancelText="Cancel"
      okButtonProps={{ disabled: !canEdit || same || !effect.data }}
    >
      <label className="field">
        <span>For every member of</span>
        <Select
          aria-label="For every member of"
          showSearch={{ optionFilterProp: "label" }}
          allowClear
          style={{ width: "100%" }}
          placeholder="choose a group"
          value={group ?? undefined}
          onChange={(one?: string) => setGroup(one ?? null)}
          options={index.groupsByName.map((one) => ({ value: one.id, label: whoName(index, one.id) }))}
        />
      </label>
      <label className="field">
        <span>Also with read-write access</span>
        <Select
          aria-label="Who gets in too"
          mode="multiple"
          optionFilterProp="label"
          style={{ width: "100%" }}
          placeholder="nobody"
          value={keepers}
          onChange={setKeepers}
          options={whos}
        />
      </label>
      <Checkbox checked={shared} onChange={(event) => setShared(event.target.checked)}>
        each is a share of its own too, under their sign-in name, not listed
      </Checkbox>
      <p className="muted">
        {group || !place.personal_folders
          ? "Nothing comes down to these folders. Whoever joins the group later gets one; of those who leave, the folder is kept and closed."
          : "The folders, their grants and shares stay as they are. Who joins from now on gets none."}
      </p>
      {same ? null : effect.isError ? (
        <div className="trouble">{message(effect.error)}</div>
      ) : !effect.data ? (
        <p className="muted" role="status">
          Asking what it would do …
        </p>
      ) : (
        <>
          {along.length > 0 ? (
            <>
              <h3>This goes with it</h3>
              <ul className="words" tabIndex={0}>
                {along.map((words, number) => (
                  <li key={number}>{words}</li>
                ))}
              </ul>
            </>
          ) : (
            <p className="muted">Nothing has to be done with it.</p>
          )}
          {(effect.data.total > 0 || along.length === 0) && <Effects effect={effect.data} />}
        </>
      )}
    </Modal>
  );
}
