import { useQueryClient } from "@tanstack/react-query";
import { Modal } from "antd";
import { useState } from "react";
import type { Edit } from "../api/client";
import { usePlan } from "../plan/PlanContext";
import { effectOf, useEffectOf, WouldChange } from "./Effects";

interface Asked {
  title: string;
  ok: string;
  edits: Edit[];
  done: (kept: boolean) => void;
}

/** Keep edits; but where somebody, or a host, then gets more or less than is granted, or a promise breaks, say so first and let go. */
export function useAskFirst() {
  const { id, outline, edit } = usePlan();
  const client = useQueryClient();
  const [asked, setAsked] = useState<Asked | null>(null);
  const put = async (title: string, ok: string, edits: Edit[]): Promise<boolean> => {
    const keep = async () => (await edit(edits)) !== null;
    let effect;
    try {
      effect = await client.fetchQuery({ ...effectOf(id, outline.revision, edits), retry: false });
    } catch {
      return keep(); // which says what is wrong with it
    }
    return effect.free && effect.breaks.length === 0 ? keep() : new Promise((done) => setAsked({ title, ok, edits, done }));
  };
  return { put, dialog: asked && <Dialog asked={asked} onClose={() => setAsked(null)} /> };
}

function Dialog({ asked: { title, ok, edits, done }, onClose }: { asked: Asked; onClose: () => void }) {
  const { edit } = usePlan();
  const effect = useEffectOf(edits);
  const end = (kept: boolean) => {
    done(kept);
    onClose();
  };
  const keep = async () => end((await edit(edits)) !== null);
  return (
    <Modal
      title={title}
      open
      onCancel={() => end(false)}
      onOk={() => void keep()}
      okText={ok}
      cancelText="Cancel"
      okButtonProps={{ danger: true, disabled: !effect.data }}
    >
      <WouldChange effect={effect} open />
    </Modal>
  );
}
