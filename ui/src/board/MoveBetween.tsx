import { Checkbox } from "antd";
import { useState } from "react";
import type { Edit } from "../api/client";
import { ManyDialog } from "../parts/selection";
import { isLocal, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

/** A person who was dragged from one group to another. from: "" where they were in none. */
export interface Dragged {
  who: string;
  from: string;
  to: string;
}

/** What was dropped on a group, with what would change, before it is done. */
export function MoveBetween({ dragged: { who, from, to }, onClose }: { dragged: Dragged; onClose: () => void }) {
  const { outline, index } = usePlan();
  const was = index.groups.get(from);
  const canLeave = was !== undefined && isLocal(was) && from !== outline.target.baseline && was.members.includes(who) && from !== to;
  const [leaves, setLeaves] = useState(canLeave);
  const isIn = index.groups.get(to)?.members.includes(who) ?? false;
  const edits: Edit[] = [
    ...(isIn ? [] : [{ op: "join" as const, group: to, member: who }]),
    ...(leaves && canLeave ? [{ op: "leave" as const, group: from, member: who }] : []),
  ];
  const name = whoName(index, who);
  return (
    <ManyDialog title={`${name}: to ${whoName(index, to)}`} ok={leaves && canLeave ? "Move" : "Add"} edits={edits} onClose={onClose}>
      {isIn && (
        <p>
          {name} is in {whoName(index, to)} already.
        </p>
      )}
      {canLeave && (
        <Checkbox checked={leaves} onChange={(event) => setLeaves(event.target.checked)}>
          and no longer in {whoName(index, from)}
        </Checkbox>
      )}
    </ManyDialog>
  );
}

const KIND = "application/x-yardgate-person";

/** What makes the head of a person's row something to drag. */
export const dragging = (row: { key: string; who: string }) => ({
  draggable: true,
  onDragStart: (event: React.DragEvent) => {
    event.dataTransfer.effectAllowed = "move";
    event.dataTransfer.setData(
      KIND,
      JSON.stringify({ who: row.who, from: row.key.includes("|") ? row.key.slice(0, row.key.indexOf("|")) : "" }),
    );
  },
});

/** What makes the head of a group's row something to drop a person on. */
export const dropping = (to: string, onDropped: (dragged: Dragged) => void) => ({
  onDragOver: (event: React.DragEvent<HTMLElement>) => {
    if (!event.dataTransfer.types.includes(KIND)) return;
    event.preventDefault();
    event.currentTarget.classList.add("over");
  },
  onDragLeave: (event: React.DragEvent<HTMLElement>) => event.currentTarget.classList.remove("over"),
  onDrop: (event: React.DragEvent<HTMLElement>) => {
    event.preventDefault();
    event.currentTarget.classList.remove("over");
    const said = JSON.parse(event.dataTransfer.getData(KIND)) as { who: string; from: string };
    onDropped({ ...said, to });
  },
});
