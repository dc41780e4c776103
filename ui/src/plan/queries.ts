import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ask, type Edit, type FindingOut } from "../api/client";
import { KEYS, usePlan } from "./PlanContext";

/** Milliseconds for which what was worked out of a plan is not asked for again, where no edit of it was heard of. */
export const STAYS = 10 * 60 * 1000;

/** Who gets more or less than is granted, or where the rule settled it; asked once for all that show them. */
export function useStands(what: "off" | "settled" = "off") {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "stands", what],
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/stands", { params: { path: { plan: id }, query: { what } } })),
  });
}

/** Groups that somebody is in without being named there: through another group, or the baseline. */
export function useMemberships() {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "memberships"],
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/memberships", { params: { path: { plan: id } } })),
  });
}

/** Promises and findings, asked once for all that show them; the old answer stays until the new one is there. */
export function useStanding() {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "standing"],
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/standing", { params: { path: { plan: id } } })),
  });
}

/** What removes a finding, and all that it changes; looked for when somebody asks, and again with every revision of the plan. */
export function useRepair(finding: FindingOut) {
  const { id, outline } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "repair", outline.revision, finding.id],
    enabled: finding.fixable !== false,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/findings/repair", { params: { path: { plan: id }, query: { finding: finding.id } } })),
  });
}

/** Where something else comes out than is needed. */
export function useNeeds(enabled = true) {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "needs"],
    enabled,
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/needs", { params: { path: { plan: id } } })),
  });
}

/** The joined directories: from when their copies are, and what is wrong with them. Not asked where there are none. */
export function useDirectories() {
  const { id, outline } = usePlan();
  return useQuery({
    queryKey: ["directories", id],
    enabled: outline.directories.length > 0,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/directories", { params: { path: { plan: id } } })),
  });
}

/** What a plan can be exported as; it stays so while the server runs. */
export function useFormats() {
  return useQuery({ queryKey: ["formats"], staleTime: Infinity, queryFn: () => ask(api.GET("/api/v1/formats")) }).data ?? [];
}

/** What edits would change, asked anew with every revision of the plan; not asked where there are none. */
export function useWhatIf(edits: Edit[] | undefined) {
  const { id, outline } = usePlan();
  return useQuery({
    queryKey: ["what-if", id, outline.revision, edits],
    gcTime: 0,
    enabled: edits !== undefined && edits.length > 0,
    queryFn: () =>
      ask(
        api.POST("/api/v1/plans/{plan}/what-if", { params: { path: { plan: id } }, body: { revision: outline.revision, edits: edits! } }),
      ),
  });
}

/** The steps from what the appliance has to what the plan comes to; `asking` where they are to be worked out, else what is known of them. */
export function useRollout(asking: boolean) {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "rollout"],
    enabled: asking,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rollout", { params: { path: { plan: id } } })),
  });
}

/** The cells that come out otherwise than what was put on the appliance last. */
export function useSince() {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, ...KEYS.since],
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rollout/since", { params: { path: { plan: id } } })),
  });
}
