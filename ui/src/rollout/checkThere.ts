import type { Outline } from "../api/client";
import type { PlanIndex } from "../plan/index";

/** Where it is looked up on the appliance why somebody gets, or does not get, into a place of a share. */
export function checkThere(
  plan: string,
  outline: Outline,
  index: PlanIndex,
  who: string,
  over: { share: string; protocol: string },
  place: string,
): string {
  const top = outline.shares.find((one) => one.id === over.share)?.place;
  const names: string[] = [];
  for (let here: string | null | undefined = place; here && here !== top; here = index.places.get(here)?.parent) {
    names.unshift(index.places.get(here)?.name ?? "");
  }
  const query = new URLSearchParams({ check: who, share: over.share, over: over.protocol, path: names.join("/") });
  return `/p/${plan}/rollout?${query}`;
}
