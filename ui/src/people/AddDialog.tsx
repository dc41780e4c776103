import { Button, Checkbox, Input, Modal, Select } from "antd";
import { useRef, useState } from "react";
import type { InputRef } from "antd";
import { NameHint, useNameSays } from "../parts/NameHint";
import { Pick } from "../parts/Pick";
import { plural } from "../parts/plural";
import { isLocal, pickName, shownName } from "../plan/index";
import { useMore } from "../plan/more";
import { usePlan } from "../plan/PlanContext";
import { proposed, pasted } from "./pasted";

type Kind = "person" | "service" | "group";
const SEVERAL: Record<Kind, string> = { person: "people", service: "services", group: "groups" };

/** Add a person, a service or a group; like another one, or several at once from a pasted column. */
export function AddDialog({ kind, like: first, onClose }: { kind: Kind; like?: string; onClose: (added: string | null) => void }) {
  const { index } = usePlan();
  const more = useMore();
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [lines, setLines] = useState<string | null>(null);
  const [groups, setGroups] = useState<string[]>([]);
  const [like, setLike] = useState<string | undefined>(first);
  const [grants, setGrants] = useState(false);
  const [done, setDone] = useState<{ id: string; words: string } | null>(null);
  const field = useRef<InputRef>(null);
  const many = lines === null ? [] : pasted(lines, kind);
  const says = useNameSays(kind === "group" ? "group" : "account", name, { wanted: lines === null });
  const ready = lines === null ? name.trim() !== "" && !says?.trouble : many.length > 0;
  const add = async (again: boolean) => {
    if (!ready || more.busy) return;
    const one = { name: name.trim(), full_name: kind === "person" ? fullName.trim() : "" };
    const made =
      lines === null && like
        ? await more.run({ do: "copy", like, ...one, grants }, (id) => groups.map((group) => ({ op: "join", group, member: id })))
        : await more.run({ do: "add", kind, names: lines === null ? [one] : many, groups });
    if (!made) return;
    if (!again) return onClose(made.made);
    setDone({ id: made.made ?? "", words: lines === null ? one.full_name || one.name : plural(many.length, kind, SEVERAL[kind]) });
    setName("");
    setFullName("");
    setLines(lines === null ? null : "");
    field.current?.focus();
  };
  const paste = (text: string) => {
    if (!/[\n\t]/.test(text.trim())) return false;
    setLines(text);
    return true;
  };
  const alike = (kind === "group" ? index.groupsByName : index.usersByName.filter((user) => (user.kind ?? "person") === kind)).map(
    (one) => ({ value: one.id, label: "members" in one ? pickName(index, one.id) : shownName(one) }),
  );
  return (
    <Modal
      title={lines === null ? `Add a ${kind}` : `Add several ${SEVERAL[kind]}`}
      open
      onCancel={() => onClose(done?.id ?? null)}
      footer={
        <>
          <Button onClick={() => onClose(done?.id ?? null)}>{done ? "Close" : "Cancel"}</Button>
          <Button disabled={!ready} loading={more.busy} onClick={() => void add(true)}>
            Add, and another
          </Button>
          <Button type="primary" disabled={!ready} loading={more.busy} onClick={() => void add(false)}>
            {lines === null ? `Add ${kind}` : many.length > 0 ? `Add ${plural(many.length, kind, SEVERAL[kind])}` : "Add"}
          </Button>
        </>
      }
    >
      {done && (
        <p role="status" className="done-line">
          {done.words} added.
        </p>
      )}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void add(false);
        }}
      >
        {lines === null ? (
          <>
            {kind === "person" && (
              <label className="field">
                <span>Full name</span>
                <Input
                  ref={field}
                  autoFocus
                  value={fullName}
                  maxLength={255}
                  onPaste={(event) => paste(event.clipboardData.getData("text")) && event.preventDefault()}
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
              <Input
                ref={kind === "person" ? undefined : field}
                autoFocus={kind !== "person"}
                value={name}
                maxLength={255}
                status={says?.trouble ? "error" : undefined}
                onPaste={(event) => paste(event.clipboardData.getData("text")) && event.preventDefault()}
                onChange={(event) => setName(event.target.value)}
              />
            </label>
            <NameHint says={says} name={name} onTake={setName} />
            <button type="button" className="plain link" onClick={() => setLines("")}>
              Several at once …
            </button>
          </>
        ) : (
          <>
            <label className="field">
              <span>
                One a line{kind === "person" && ": the full name, and the sign-in name behind a tab or comma if it shall be another"}. Paste
                a column.
              </span>
              <Input.TextArea autoFocus rows={7} value={lines} onChange={(event) => setLines(event.target.value)} />
            </label>
            {kind === "person" && many.length > 0 && (
              <p className="muted">
                They sign in as{" "}
                {many
                  .slice(0, 4)
                  .map((one) => one.name)
                  .join(", ")}
                {many.length > 4 && ` and ${many.length - 4} more`}.
              </p>
            )}
            <button type="button" className="plain link" onClick={() => setLines(null)}>
              Only one
            </button>
          </>
        )}
        {lines === null && alike.length > 0 && (
          <div className="row" style={{ margin: "10px 0", flexWrap: "wrap" }}>
            <span className="muted">{kind === "group" ? "The same members as" : "In the same groups as"}</span>
            <Select
              allowClear
              aria-label={kind === "group" ? "The same members as" : "In the same groups as"}
              showSearch={{ optionFilterProp: "label" }}
              style={{ width: 210 }}
              placeholder="nobody"
              value={like}
              onChange={setLike}
              options={alike}
            />
            {like && (
              <Checkbox checked={grants} onChange={(event) => setGrants(event.target.checked)}>
                {kind === "group" ? "and with its grants" : "and with grants of their own"}
              </Checkbox>
            )}
          </div>
        )}
        <Pick
          label={like && lines === null ? "Besides, member of" : "Member of"}
          value={groups}
          onChange={setGroups}
          choices={index.groupsByName.filter(isLocal).map((group) => ({ value: group.id, label: pickName(index, group.id) }))}
        />
        <button type="submit" hidden />
      </form>
      {more.trouble && (
        <div className="trouble" role="alert">
          {more.trouble}
        </div>
      )}
    </Modal>
  );
}
