import { useQuery } from "@tanstack/react-query";
import { Input, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type Edit } from "../api/client";
import { usePlan } from "../plan/PlanContext";
import { useEffectOf, WouldChange } from "./Effects";

/** Says what is lost by a removal, and asks for the name where anything else goes with it. */
export function RemoveDialog({
  name,
  edit,
  words = [`Remove ${name} from the plan`, "Remove"],
  onClose,
}: {
  name: string;
  edit: Edit;
  words?: [title: string, act: string];
  onClose: (removed: boolean) => void;
}) {
  return <ManyRemoveDialog title={words[0]} ok={words[1]} word={name} edits={[edit]} onClose={onClose} />;
}

/** The same for several at once, where `word` (how many they are) is asked for. */
export function ManyRemoveDialog({
  title,
  ok = "Remove",
  word,
  edits,
  onClose,
}: {
  title: string;
  ok?: string;
  word: string;
  edits: Edit[];
  onClose: (removed: boolean) => void;
}) {
  const plan = usePlan();
  const [typed, setTyped] = useState("");
  const loss = useQuery({
    queryKey: ["loss", plan.id, edits],
    gcTime: 0,
    queryFn: () =>
      ask(
        api.POST("/api/v1/plans/{plan}/loss", {
          params: { path: { plan: plan.id } },
          body: { revision: plan.outline.revision, edits },
        }),
      ),
  });
  const effect = useEffectOf(edits);
  const more = (loss.data?.length ?? 0) > edits.length;
  const ready = loss.data !== undefined && effect.data !== undefined && (!more || typed === word);
  return (
    <Modal
      title={title}
      open
      onCancel={() => onClose(false)}
      okText={ok}
      okButtonProps={{ danger: true, disabled: !ready }}
      onOk={() => void plan.edit(edits).then((kept) => onClose(kept !== null))}
    >
      {loss.isError && <div className="trouble">{message(loss.error)}</div>}
      {!loss.data && !loss.isError && <p role="status">Working out what goes with it …</p>}
      {loss.data && (
        <>
          <p>This takes out of the plan:</p>
          <ul className="words" tabIndex={0}>
            {loss.data.map((line, number) => (
              <li key={number}>{line}</li>
            ))}
          </ul>
          <h3>Who loses or gains by it</h3>
          <WouldChange effect={effect} open />
          <p className="muted">Nothing on the appliance is touched, and undo brings it all back.</p>
          {more && (
            <label className="field">
              <span>
                Write <b>{word}</b> to remove {edits.length === 1 ? "it" : "them"}
              </span>
              <Input value={typed} onChange={(event) => setTyped(event.target.value)} autoFocus />
            </label>
          )}
        </>
      )}
    </Modal>
  );
}
