import { Button, Checkbox, Select } from "antd";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Edit, Group, Target } from "../api/client";
import { Field } from "../parts/Field";
import { RemoveDialog } from "../parts/RemoveDialog";
import { isLocal, pickName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { From } from "./From";
import { notEmpty, wholeNumber } from "./PersonPanel";

/** One group: who is in it, in what it is, and what part it plays on this appliance. */
export function GroupPanel({ group, onLike }: { group: Group; onLike: () => void }) {
  const { outline, index, canEdit, edit } = usePlan();
  const [removing, setRemoving] = useState(false);
  const put = (change: Partial<Group>) => void edit([{ op: "put-group", group: { ...group, ...change } }]);
  const setTarget = (change: Partial<Target>) => void edit([{ op: "set-target", target: { ...outline.target, ...change } }]);
  const options = useMemo(
    () => [
      { label: "People and services", options: index.usersByName.map((user) => ({ value: user.id, label: pickName(index, user.id) })) },
      {
        label: "Groups",
        options: index.groupsByName
          .filter((other) => other.id !== group.id)
          .map((other) => ({ value: other.id, label: pickName(index, other.id) })),
      },
    ],
    [index, group.id],
  );
  const remember = (next: string[]) => {
    const joins = next.filter((member) => !group.members.includes(member)).map((member): Edit => ({ op: "join", group: group.id, member }));
    const leaves = group.members
      .filter((member) => !next.includes(member))
      .map((member): Edit => ({ op: "leave", group: group.id, member }));
    if (joins.length + leaves.length > 0) void edit([...joins, ...leaves]);
  };
  const local = isLocal(group);
  const ours = canEdit && local;
  const circle = outline.cycles.find((one) => one.includes(group.id));
  const within = (index.groupsOf.get(group.id) ?? []).map((outer) => index.groups.get(outer)?.name ?? outer);
  return (
    <>
      <h2 style={{ marginBottom: 10 }}>{group.name}</h2>
      {!local && <From account={group} />}
      {group.unknown.length > 0 && <div className="trouble">Members that are not among the accounts read: {group.unknown.join("; ")}</div>}
      {circle && (
        <div className="trouble">
          This group contains itself through {circle.map((one) => index.groups.get(one)?.name).join(" → ")}. It does no harm, but an
          appliance may refuse it.
        </div>
      )}
      <Field
        label="Name"
        named={{ kind: "group", itself: group.id }}
        value={group.name}
        disabled={!ours}
        check={notEmpty}
        onKeep={(name) => put({ name })}
      />
      <Field
        label="gid"
        value={group.gid?.toString() ?? ""}
        disabled={!ours}
        check={wholeNumber}
        onKeep={(text) => put({ gid: text === "" ? null : Number(text) })}
      />
      <label className="field">
        <span>Members</span>
        <Select
          aria-label="Members"
          mode="multiple"
          style={{ width: "100%" }}
          value={group.members}
          disabled={!ours}
          onChange={remember}
          optionFilterProp="label"
          options={options}
        />
      </label>
      {within.length > 0 && <p className="muted">Is itself in {within.join(", ")}.</p>}
      <Checkbox
        checked={outline.target.baseline === group.id}
        disabled={!canEdit}
        onChange={(event) => setTarget({ baseline: event.target.checked ? group.id : null })}
      >
        Baseline: everybody is in it without being listed
      </Checkbox>
      <br />
      <Checkbox
        checked={outline.target.administrators === group.id}
        disabled={!canEdit}
        onChange={(event) => setTarget({ administrators: event.target.checked ? group.id : null })}
      >
        Administrators: members always get read-write at the share
      </Checkbox>
      <div style={{ height: 10 }} />
      <Field label="Note" area value={group.note ?? ""} disabled={!canEdit} onKeep={(note) => put({ note })} />
      <p>
        <Link to={`?who=${encodeURIComponent(group.id)}&history=${encodeURIComponent(group.id)}`}>History</Link>
      </p>
      {canEdit && (
        <div className="row">
          <Button size="small" onClick={onLike}>
            Add another like it …
          </Button>
          <Button danger size="small" onClick={() => setRemoving(true)}>
            Remove …
          </Button>
        </div>
      )}
      {removing && <RemoveDialog name={group.name} edit={{ op: "remove-group", group: group.id }} onClose={() => setRemoving(false)} />}
    </>
  );
}
