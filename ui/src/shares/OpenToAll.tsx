import { Modal, Segmented } from "antd";
import { useState } from "react";
import { type Edit, type Level, type Share } from "../api/client";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useEffectOf, WouldChange } from "../parts/Effects";

type Public = "RO" | "RW";

/** One switch that opens a share to everybody, guests too, or closes it again; what it does at the share and in storage. */
export function OpenToAll({ share, onClose }: { share: Share; onClose: () => void }) {
  const { outline, index, canEdit, edit } = usePlan();
  const granted = outline.grants[share.place]?.find((line) => line.who === "everyone")?.level ?? null;
  const isOpen = share.guests !== "NA";
  const [level, setLevel] = useState<Public | "NA">(isOpen ? "NA" : "RO");
  const closing = level === "NA";
  const grant: Level | null = closing ? null : level;
  const edits: Edit[] = [
    ...(share.guests !== level ? [{ op: "put-share" as const, share: { ...share, guests: level } }] : []),
    ...(granted !== grant ? [{ op: "set-grant" as const, place: share.place, who: "everyone", level: grant, at: null }] : []),
  ];
  const effect = useEffectOf(edits);
  const stopped =
    !closing &&
    share.guests === "NA" &&
    effect.data &&
    !effect.data.cells.some((cell) => cell.subject === "guest" && cell.place === share.place && cell.after === level);
  const keep = async () => {
    if (await edit(edits)) onClose();
  };
  const place = pathName(index, share.place);
  return (
    <Modal
      title={`${share.name}: open to everybody`}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText={closing ? "Close it" : "Open it"}
      cancelText="Cancel"
      okButtonProps={{ disabled: !canEdit || edits.length === 0 || !effect.data, danger: !closing }}
    >
      <Segmented
        aria-label="How open"
        value={level}
        onChange={(value) => setLevel(value as Public | "NA")}
        options={[
          { value: "NA", label: isOpen ? "closed again" : "not open" },
          { value: "RO", label: "all may read" },
          { value: "RW", label: "all may write" },
        ]}
      />
      <ul className="both">
        <li>
          <b>At the share</b>{" "}
          <span>
            guests, who need no account and no password,{" "}
            {closing ? (
              "are not let in"
            ) : (
              <>
                are let in <LevelTag level={level} long />
              </>
            )}
          </span>
        </li>
        <li>
          <b>In storage</b>{" "}
          <span>
            {closing ? (
              <>
                no grant to everyone on {place}
                {granted && ` any more (${WORDS[granted]} now)`}
              </>
            ) : (
              <>
                a grant to everyone, all accounts and guests: <LevelTag level={level} long /> on {place} and what takes over from it
              </>
            )}
          </span>
        </li>
      </ul>
      {share.read_only && level === "RW" && <p className="late">The share is read-only, whatever is granted: over it nobody will write.</p>}
      {stopped && (
        <p className="late">
          A guest would still not get that far: a folder on the way or a line by hand keeps them out. Walk as a guest shows which.
        </p>
      )}
      {edits.length === 0 ? <p className="muted">Nothing would change.</p> : <WouldChange effect={effect} />}
    </Modal>
  );
}
