import { Button } from "antd";
import { useState } from "react";
import { MenuButton } from "../parts/Menu";
import type { Edit, Share } from "../api/client";
import { plural } from "../parts/plural";
import { ManyRemoveDialog } from "../parts/RemoveDialog";
import { ManyDialog, NoteDialog, SelectionBar, type Selection } from "../parts/selection";
import { usePlan } from "../plan/PlanContext";

/** What can be set of several shares at once: the act in words, and what it sets. */
const SETS: Record<string, { words: string; change: Partial<Share> }> = {
  smb: { words: "Offer over SMB", change: { smb: true } },
  "no-smb": { words: "Offer over SMB no longer", change: { smb: false } },
  nfs: { words: "Offer over NFS", change: { nfs: true } },
  "no-nfs": { words: "Offer over NFS no longer", change: { nfs: false } },
  read: { words: "Make read-only", change: { read_only: true } },
  write: { words: "Let write again", change: { read_only: false } },
  closed: { words: "Let no guests in", change: { guests: "NA" } },
  unreadable: { words: "Hide what one cannot read", change: { hide_unreadable: true } },
  readable: { words: "Show what one cannot read, too", change: { hide_unreadable: false } },
  hidden: { words: "Do not list them among the shares", change: { hidden: true } },
  listed: { words: "List them among the shares", change: { hidden: false } },
  versions: { words: "Show earlier versions", change: { versions: true } },
  recycle: { words: "Keep what is deleted in a recycle folder", change: { recycle: true } },
};

/** Acts on several shares at once. */
export function Selected({ selection, shares }: { selection: Selection; shares: Share[] }) {
  const { outline } = usePlan();
  const [act, setAct] = useState<string | null>(null);
  const chosen = shares.filter((share) => selection.chosen.has(share.id));
  const many = plural(chosen.length, "share");
  const put = (change: Partial<Share>): Edit[] =>
    chosen
      .filter((share) => Object.entries(change).some(([key, value]) => share[key as keyof Share] !== value))
      .map((share) => ({ op: "put-share", share: { ...share, ...change } }));
  const useful = Object.entries(SETS).filter(([, one]) => put(one.change).length > 0);
  const set = act ? SETS[act] : undefined;
  const close = (done: boolean) => {
    setAct(null);
    if (done && act === "remove") selection.set([]);
  };
  const alone = chosen.filter((share) => outline.shares.filter((other) => other.place === share.place).length === 1).length;
  return (
    <>
      <SelectionBar words={`${many} chosen`} onClear={() => selection.set([])}>
        <MenuButton words="Set" choices={useful.map(([key, one]) => ({ words: `${one.words} …`, act: () => setAct(key) }))} />
        <Button size="small" onClick={() => setAct("note")}>
          Note …
        </Button>
        <Button size="small" danger onClick={() => setAct("remove")}>
          Remove …
        </Button>
      </SelectionBar>
      {set && (
        <ManyDialog title={`${set.words}: ${many}`} ok={set.words} edits={put(set.change)} onClose={close}>
          <p>
            {put(set.change)
              .map((one) => (one.op === "put-share" ? one.share.name : ""))
              .join(", ")}
          </p>
        </ManyDialog>
      )}
      {act === "note" && <NoteDialog many={many} edits={(note) => put({ note })} onClose={close} />}
      {act === "remove" && (
        <ManyRemoveDialog
          title={`Share ${many} no longer${alone > 0 ? "" : ": other shares offer the same places"}`}
          word={String(chosen.length)}
          edits={chosen.map((share): Edit => ({ op: "remove-share", share: share.id }))}
          onClose={close}
        />
      )}
    </>
  );
}
