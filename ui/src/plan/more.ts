import { useCallback, useState } from "react";
import { api, ask, message, type Edit, type Schemas } from "../api/client";
import { usePlan } from "./PlanContext";

export type More =
  Schemas["AddThem"] | Schemas["PlaceThem"] | Schemas["LikeOffice"] | Schemas["NumberThem"] | Schemas["ShareThem"] | Schemas["MoreLikeIt"];

/** An act on many things, or one more of the same: the server says which edits do it, and they are kept as one step. `trouble`: why it cannot be. */
export function useMore() {
  const { id, edit } = usePlan();
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const edits = useCallback((body: More) => ask(api.POST("/api/v1/plans/{plan}/more", { params: { path: { plan: id } }, body })), [id]);
  const run = useCallback(
    async (body: More, besides: (made: string) => Edit[] = () => []): Promise<{ made: string | null } | null> => {
      setBusy(true);
      setTrouble("");
      try {
        const found = await edits(body);
        const all = [...found.edits, ...besides(found.made ?? "")];
        if (all.length === 0) return { made: found.made ?? null };
        return (await edit(all)) && { made: found.made ?? null };
      } catch (error) {
        setTrouble(message(error));
        return null;
      } finally {
        setBusy(false);
      }
    },
    [edit, edits],
  );
  return { run, edits, trouble, busy };
}
