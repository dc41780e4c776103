import { Button, Input, Radio } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Edit, Group, User } from "../api/client";
import { Pick } from "../parts/Pick";
import { plural } from "../parts/plural";
import { ManyRemoveDialog } from "../parts/RemoveDialog";
import { ManyDialog, NoteDialog, SelectionBar, type Selection } from "../parts/selection";
import { isLocal, pickName } from "../plan/index";
import { useMore } from "../plan/more";
import { usePlan } from "../plan/PlanContext";

type Act = "groups" | "disable" | "enable" | "ends" | "kind" | "note" | "remove";

/** Acts on several people, services and groups at once. What a directory keeps stays as it is, and is said. */
export function Selected({ selection, hidden }: { selection: Selection; hidden: number }) {
  const { id, index } = usePlan();
  const more = useMore();
  const [act, setAct] = useState<Act | null>(null);
  const users = [...selection.chosen].flatMap((one) => index.users.get(one) ?? []);
  const groups = [...selection.chosen].flatMap((one) => index.groups.get(one) ?? []);
  const ours = users.filter(isLocal);
  const bare = [...ours.filter((user) => user.uid == null), ...groups.filter((group) => isLocal(group) && group.gid == null)];
  const many = [
    users.length > 0 &&
      (users.every((one) => one.kind === "service") ? plural(users.length, "service") : plural(users.length, "person", "people")),
    groups.length > 0 && plural(groups.length, "group"),
  ]
    .filter(Boolean)
    .join(" and ");
  const close = (done: boolean) => {
    setAct(null);
    if (done && act === "remove") selection.set([]);
  };
  const shared = { users, ours, groups, many, onClose: close };
  return (
    <>
      <SelectionBar words={`${many} chosen${hidden > 0 ? `, ${hidden} not shown` : ""}`} onClear={() => selection.set([])}>
        <Button size="small" onClick={() => setAct("groups")}>
          Groups …
        </Button>
        {bare.length > 0 && (
          <Button size="small" loading={more.busy} onClick={() => void more.run({ do: "number", ids: bare.map((one) => one.id) })}>
            Number {bare.length.toLocaleString()}
          </Button>
        )}
        {ours.some((user) => user.enabled) && (
          <Button size="small" onClick={() => setAct("disable")}>
            Disable …
          </Button>
        )}
        {ours.some((user) => !user.enabled) && (
          <Button size="small" onClick={() => setAct("enable")}>
            Enable …
          </Button>
        )}
        {ours.length > 0 && (
          <>
            <Button size="small" onClick={() => setAct("ends")}>
              Ends on …
            </Button>
            <Button size="small" onClick={() => setAct("kind")}>
              Kind …
            </Button>
          </>
        )}
        <Button size="small" onClick={() => setAct("note")}>
          Note …
        </Button>
        {users.length > 0 && (
          <Link to={`/p/${id}/cards?who=${users.map((one) => encodeURIComponent(one.id)).join(",")}`}>Cards to print</Link>
        )}
        <Button size="small" danger onClick={() => setAct("remove")}>
          Remove …
        </Button>
        {more.trouble && <span className="late">{more.trouble}</span>}
      </SelectionBar>
      {act === "groups" && <GroupsOfMany {...shared} />}
      {(act === "disable" || act === "enable") && <SetEnabled {...shared} enabled={act === "enable"} />}
      {act === "ends" && <EndsOn {...shared} />}
      {act === "kind" && <KindOfMany {...shared} />}
      {act === "note" && <NoteOfMany {...shared} />}
      {act === "remove" && (
        <ManyRemoveDialog
          title={`Remove ${many} from the plan`}
          word={String(users.length + groups.length)}
          edits={[
            ...users.map((one): Edit => ({ op: "remove-user", user: one.id })),
            ...groups.map((one): Edit => ({ op: "remove-group", group: one.id })),
          ]}
          onClose={close}
        />
      )}
    </>
  );
}

interface Shared {
  users: User[];
  ours: User[];
  groups: Group[];
  many: string;
  onClose: (done: boolean) => void;
}

const put = (users: User[], change: Partial<User>): Edit[] =>
  users
    .map((user) => ({ ...user, ...change }))
    .filter((user, number) => JSON.stringify(user) !== JSON.stringify(users[number]))
    .map((user) => ({ op: "put-user", user }));

function Kept({ users, ours }: { users: User[]; ours: User[] }) {
  const kept = users.length - ours.length;
  return kept > 0 ? (
    <p className="muted">{plural(kept, "account comes", "accounts come")} from a directory and stay as they are there.</p>
  ) : null;
}

function GroupsOfMany({ users, groups, many, onClose }: Shared) {
  const { index } = usePlan();
  const [into, setInto] = useState<string[]>([]);
  const [out, setOut] = useState<string[]>([]);
  const members = [...users, ...groups].map((one) => one.id);
  const inside = (group: string, member: string) => index.groups.get(group)?.members.includes(member) ?? false;
  const choices = index.groupsByName.filter(isLocal).map((group) => {
    const count = members.filter((member) => inside(group.id, member)).length;
    return { value: group.id, label: `${pickName(index, group.id)} (${count} of ${members.length})`, count };
  });
  const edits: Edit[] = [
    ...into.flatMap((group) =>
      members.filter((member) => member !== group && !inside(group, member)).map((member): Edit => ({ op: "join", group, member })),
    ),
    ...out.flatMap((group) => members.filter((member) => inside(group, member)).map((member): Edit => ({ op: "leave", group, member }))),
  ];
  return (
    <ManyDialog title={`Groups of ${many}`} ok={edits.length > 0 ? "Change groups" : "Nothing changes"} edits={edits} onClose={onClose}>
      <Pick
        label="Put into"
        value={into}
        onChange={setInto}
        choices={choices.filter((one) => one.count < members.length && !out.includes(one.value))}
      />
      <Pick
        label="Take out of"
        value={out}
        onChange={setOut}
        choices={choices.filter((one) => one.count > 0 && !into.includes(one.value))}
      />
    </ManyDialog>
  );
}

function SetEnabled({ users, ours, many, enabled, onClose }: Shared & { enabled: boolean }) {
  const word = enabled ? "Enable" : "Disable";
  return (
    <ManyDialog title={`${word} ${many}`} ok={word} danger={!enabled} edits={put(ours, { enabled })} onClose={onClose}>
      <p>{enabled ? "They can sign in again." : "They cannot sign in any more; what they have and where they are members stays."}</p>
      <Kept users={users} ours={ours} />
    </ManyDialog>
  );
}

function EndsOn({ users, ours, many, onClose }: Shared) {
  const [day, setDay] = useState("");
  return (
    <ManyDialog
      title={`When ${many} end`}
      ok={day ? `End on ${day}` : "Let them stay"}
      edits={put(ours, { expires: day || null })}
      onClose={onClose}
    >
      <label className="field">
        <span>Cannot sign in from this day on; empty: they stay</span>
        <Input autoFocus type="date" value={day} onChange={(event) => setDay(event.target.value)} style={{ width: 180 }} />
      </label>
      <Kept users={users} ours={ours} />
    </ManyDialog>
  );
}

function KindOfMany({ users, ours, many, onClose }: Shared) {
  const [kind, setKind] = useState<"person" | "service">("service");
  return (
    <ManyDialog title={`What ${many} are`} ok="Change" edits={put(ours, { kind })} onClose={onClose}>
      <Radio.Group value={kind} onChange={(event) => setKind(event.target.value as "person" | "service")}>
        <Radio value="person">people</Radio>
        <Radio value="service">services: a backup, a scanner, an application</Radio>
      </Radio.Group>
      <Kept users={users} ours={ours} />
    </ManyDialog>
  );
}

function NoteOfMany({ users, groups, many, onClose }: Shared) {
  const edits = (note: string): Edit[] => [
    ...put(users, { note }),
    ...groups.filter((group) => group.note !== note).map((group): Edit => ({ op: "put-group", group: { ...group, note } })),
  ];
  const replaced = (note: string) => [...users, ...groups].filter((one) => one.note && one.note !== note).length;
  return <NoteDialog many={many} edits={edits} replaced={replaced} onClose={onClose} />;
}
