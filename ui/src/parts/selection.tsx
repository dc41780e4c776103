import { Button, Input, Modal } from "antd";
import { useCallback, useMemo, useRef, useState, type ReactNode } from "react";
import type { Edit } from "../api/client";
import { usePlan } from "../plan/PlanContext";
import { useEffectOf, WouldChange } from "./Effects";
import { plural } from "./plural";

export interface Selection {
  chosen: ReadonlySet<string>;
  /** Choose one or let it go; with `range`, all from the one before to it. */
  turn: (id: string, range?: boolean) => void;
  set: (ids: Iterable<string>) => void;
}

/** What is chosen of a table. `shown`: the ids in it, in order; what is no longer in `all` is not chosen any more. */
export function useSelection(shown: readonly string[], all: { has: (id: string) => boolean }): Selection {
  const [ids, setIds] = useState<ReadonlySet<string>>(new Set());
  const last = useRef<string | null>(null);
  const now = useRef(shown);
  now.current = shown;
  const chosen = useMemo(() => new Set([...ids].filter((id) => all.has(id))), [ids, all]);
  const turn = useCallback((id: string, range = false) => {
    const [from, to] = [now.current.indexOf(last.current ?? id), now.current.indexOf(id)];
    const some = range && from >= 0 && to >= 0 ? now.current.slice(Math.min(from, to), Math.max(from, to) + 1) : [id];
    last.current = id;
    setIds((old) => {
      const next = new Set(old);
      const adding = range || !old.has(id);
      for (const one of some) {
        if (adding) next.add(one);
        else next.delete(one);
      }
      return next;
    });
  }, []);
  const set = useCallback((some: Iterable<string>) => setIds(new Set(some)), []);
  return { chosen, turn, set };
}

/** Acts on what is chosen, in place of the tools of a station. */
export function SelectionBar({ words, onClear, children }: { words: string; onClear: () => void; children: ReactNode }) {
  return (
    <div className="tools selected" role="toolbar" aria-label="Acts on what is chosen">
      <b aria-live="polite">{words}</b>
      {children}
      <span className="spread" />
      <Button size="small" onClick={onClear}>
        Let go
      </Button>
    </div>
  );
}

/** One act on many, kept as one step, with all that it changes before it is done. */
export function ManyDialog({
  title,
  ok,
  edits,
  children,
  danger = false,
  width,
  onClose,
}: {
  title: string;
  ok: string;
  edits: Edit[];
  children?: ReactNode;
  danger?: boolean;
  width?: number;
  onClose: (done: boolean) => void;
}) {
  const { edit } = usePlan();
  const [busy, setBusy] = useState(false);
  const effect = useEffectOf(edits, busy);
  const keep = async () => {
    if (edits.length === 0 || busy) return;
    setBusy(true);
    if (await edit(edits)) onClose(true);
    else setBusy(false);
  };
  return (
    <Modal
      title={title}
      open
      width={width}
      onCancel={() => onClose(false)}
      onOk={() => void keep()}
      okText={ok}
      okButtonProps={{ danger, disabled: edits.length === 0, loading: busy }}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void keep();
        }}
      >
        {children}
        <button type="submit" hidden />
      </form>
      {edits.length > 0 && <WouldChange effect={effect} open />}
    </Modal>
  );
}

/** One note for many; `replaced`: how many have another already. */
export function NoteDialog({
  many,
  edits,
  replaced,
  onClose,
}: {
  many: string;
  edits: (note: string) => Edit[];
  replaced?: (note: string) => number;
  onClose: (done: boolean) => void;
}) {
  const [note, setNote] = useState("");
  const others = replaced?.(note) ?? 0;
  return (
    <ManyDialog title={`A note for ${many}`} ok="Keep the note" edits={edits(note)} onClose={onClose}>
      <label className="field">
        <span>Note</span>
        <Input.TextArea autoFocus rows={3} maxLength={4000} value={note} onChange={(event) => setNote(event.target.value)} />
      </label>
      {others > 0 && <p className="late">{plural(others, "has a note", "have a note")} already, which this replaces.</p>}
    </ManyDialog>
  );
}
