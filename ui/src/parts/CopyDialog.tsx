import { Checkbox, Input, Modal } from "antd";
import { useState } from "react";
import { useMore } from "../plan/more";
import { NameHint, useNameSays, type NamedKind } from "./NameHint";

/** The same again, under another name: a share, or a place with all that lies in it. */
export function CopyDialog({
  kind,
  like,
  name: was,
  parent,
  words,
  onClose,
}: {
  kind: Extract<NamedKind, "share" | "place">;
  like: string;
  name: string;
  parent?: string;
  words: string;
  onClose: (made: string | null) => void;
}) {
  const more = useMore();
  const [name, setName] = useState("");
  const [grants, setGrants] = useState(true);
  const says = useNameSays(kind, name, { parent });
  const ready = name.trim() !== "" && !says?.trouble;
  const add = async () => {
    if (!ready || more.busy) return;
    const made = await more.run({ do: "copy", like, name: name.trim(), full_name: "", grants });
    if (made) onClose(made.made);
  };
  return (
    <Modal
      title={`Another like ${was}`}
      open
      onCancel={() => onClose(null)}
      okText={`Add ${kind}`}
      okButtonProps={{ disabled: !ready, loading: more.busy }}
      onOk={() => void add()}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void add();
        }}
      >
        <p className="muted">{words}</p>
        <label className="field">
          <span>Name</span>
          <Input
            autoFocus
            value={name}
            maxLength={255}
            status={says?.trouble ? "error" : undefined}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <NameHint says={says} name={name} onTake={setName} />
        {kind === "place" && (
          <Checkbox checked={grants} onChange={(event) => setGrants(event.target.checked)}>
            With what is granted there, and with its lists
          </Checkbox>
        )}
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
