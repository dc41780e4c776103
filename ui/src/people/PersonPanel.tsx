import { Button, Checkbox, Input, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Edit, User } from "../api/client";
import { Field } from "../parts/Field";
import { RemoveDialog } from "../parts/RemoveDialog";
import { isLocal, pathName, pickName, shownName } from "../plan/index";
import { From } from "./From";
import { LevelTag } from "../parts/ArmSign";
import { usePlan } from "../plan/PlanContext";

export const wholeNumber = (text: string) => (text === "" || /^\d{1,10}$/.test(text) ? null : "This must be a whole number, or empty.");
export const notEmpty = (text: string) => (text ? null : "A name is needed.");

/** One person or service: what they are, and which groups they are in. */
export function PersonPanel({ user, onLike }: { user: User; onLike: () => void }) {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [removing, setRemoving] = useState(false);
  const put = (change: Partial<User>) => void edit([{ op: "put-user", user: { ...user, ...change } }]);
  const direct = outline.groups.filter((group) => group.members.includes(user.id)).map((group) => group.id);
  const personal = Object.entries(outline.grants).flatMap(([place, lines]) =>
    lines.filter((line) => line.who === user.id).map((line) => ({ place, level: line.level })),
  );
  const regroup = (next: string[]) => {
    const joins = next.filter((group) => !direct.includes(group)).map((group): Edit => ({ op: "join", group, member: user.id }));
    const leaves = direct.filter((group) => !next.includes(group)).map((group): Edit => ({ op: "leave", group, member: user.id }));
    if (joins.length + leaves.length > 0) void edit([...joins, ...leaves]);
  };
  const local = isLocal(user);
  const ours = canEdit && local;
  return (
    <>
      <h2 style={{ marginBottom: 10 }}>{shownName(user)}</h2>
      {!local && <From account={user} />}
      <Field label="Full name" value={user.full_name ?? ""} disabled={!ours} onKeep={(full_name) => put({ full_name })} />
      <Field
        label="Sign-in name"
        named={{ kind: "account", itself: user.id }}
        value={user.name}
        disabled={!ours}
        check={notEmpty}
        onKeep={(name) => put({ name })}
      />
      <Field
        label="Other sign-in names, separated by commas"
        value={(user.aliases ?? []).join(", ")}
        disabled={!ours}
        onKeep={(text) =>
          put({
            aliases: text
              .split(",")
              .map((part) => part.trim())
              .filter(Boolean),
          })
        }
      />
      <div className="row" style={{ alignItems: "start" }}>
        <Field
          label="uid"
          value={user.uid?.toString() ?? ""}
          disabled={!ours}
          check={wholeNumber}
          onKeep={(text) => put({ uid: text === "" ? null : Number(text) })}
        />
        <label className="field" style={{ flex: 1 }}>
          <span>Kind</span>
          <Select
            aria-label="Kind"
            style={{ width: "100%" }}
            value={user.kind ?? "person"}
            disabled={!ours}
            onChange={(kind) => put({ kind })}
            options={[
              { value: "person", label: "person" },
              { value: "service", label: "service" },
            ]}
          />
        </label>
      </div>
      <div className="row" style={{ alignItems: "start" }}>
        <label className="field">
          <span>Expires (cannot sign in from this day on)</span>
          <Input
            type="date"
            value={user.expires ?? ""}
            disabled={!ours}
            onChange={(event) => put({ expires: event.target.value || null })}
          />
        </label>
        <Checkbox
          style={{ marginTop: 20 }}
          checked={!user.enabled}
          disabled={!ours}
          onChange={(event) => put({ enabled: !event.target.checked })}
        >
          disabled
        </Checkbox>
      </div>
      <label className="field">
        <span>Member of</span>
        <Select
          aria-label="Member of"
          mode="multiple"
          style={{ width: "100%" }}
          value={direct}
          disabled={!canEdit}
          onChange={regroup}
          optionFilterProp="label"
          options={index.groupsByName.map((group) => ({ value: group.id, label: pickName(index, group.id), disabled: !isLocal(group) }))}
        />
      </label>
      <Field
        label="Jobs that use this account, separated by commas"
        value={(user.jobs ?? []).join(", ")}
        disabled={!canEdit}
        onKeep={(text) =>
          put({
            jobs: text
              .split(",")
              .map((part) => part.trim())
              .filter(Boolean),
          })
        }
      />
      <Field label="Note" area value={user.note ?? ""} disabled={!canEdit} onKeep={(note) => put({ note })} />
      {personal.length > 0 && (
        <>
          <h3>Personal grants</h3>
          <ul className="cells">
            {personal.map(({ place, level }) => (
              <li key={place}>
                <span className="who">
                  <Link to={`/p/${id}/board?who=${encodeURIComponent(user.id)}&place=${encodeURIComponent(place)}`}>
                    {pathName(index, place)}
                  </Link>
                </span>
                <LevelTag level={level} />
              </li>
            ))}
          </ul>
        </>
      )}
      <div className="row ways" style={{ marginTop: 12 }}>
        <Link to={`/p/${id}/board?rows=people&who=${encodeURIComponent(user.id)}`}>See on the board</Link>
        <Link to={`?who=${encodeURIComponent(user.id)}&history=${encodeURIComponent(user.id)}`}>History</Link>
        <Link to={`/p/${id}/card/${encodeURIComponent(user.id)}`}>Card to print</Link>
        {ours && user.uid !== 0 && <Link to={`/p/${id}/rollout?signin=${encodeURIComponent(user.id)}`}>New password</Link>}
      </div>
      {canEdit && (
        <div className="row" style={{ marginTop: 12 }}>
          <Button size="small" onClick={onLike}>
            Add another like {shownName(user).split(" ")[0]} …
          </Button>
          <Button danger size="small" onClick={() => setRemoving(true)}>
            Remove …
          </Button>
        </div>
      )}
      {removing && <RemoveDialog name={shownName(user)} edit={{ op: "remove-user", user: user.id }} onClose={() => setRemoving(false)} />}
    </>
  );
}
