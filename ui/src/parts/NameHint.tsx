import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { api, ask } from "../api/client";
import { usePlan } from "../plan/PlanContext";

export type NamedKind = "account" | "group" | "share" | "place";

/** Why a name that is being typed will be refused, by the plan, a protocol or a host; nothing where it will not. */
export function useNameSays(
  kind: NamedKind,
  name: string,
  { itself, parent, wanted = true }: { itself?: string; parent?: string; wanted?: boolean } = {},
) {
  const { id, outline } = usePlan();
  const text = useDeferredValue(name.trim());
  return useQuery({
    queryKey: ["of-plan", id, "name", outline.revision, kind, text, itself, parent],
    enabled: wanted && text !== "",
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/name", {
          params: { path: { plan: id }, query: { kind, name: text, itself: itself ?? null, parent: parent ?? null } },
        }),
      ),
  }).data;
}

/** Says below a field why its name will be refused, and offers one that works. */
export function NameHint({ says, name, onTake }: { says: ReturnType<typeof useNameSays>; name: string; onTake: (better: string) => void }) {
  if (!says?.trouble || !name.trim()) return null;
  return (
    <div className="name-hint" role="alert">
      “{name.trim()}” {says.trouble}.{" "}
      {says.better && (
        <button type="button" className="plain link" onClick={() => onTake(says.better)}>
          Use {says.better}
        </button>
      )}
    </div>
  );
}
