import { MenuButton } from "../parts/Menu";
import { usePlan } from "../plan/PlanContext";
import { useFormats } from "../plan/queries";

/** A rollout to take away. steps: whether there are any to do; only: which papers, where not all. */
export function Papers({ query, steps = true, only }: { query: string; steps?: boolean; only?: string[] }) {
  const { id } = usePlan();
  const papers = useFormats().filter(({ of, name }) => (of === "system" || (of === "steps" && steps)) && (!only || only.includes(name)));
  const choices = papers.map(({ name, words }) => ({
    words,
    act: () => window.location.assign(`/api/v1/plans/${id}/rollout/take-away/${name}?${query}`),
  }));
  return <MenuButton words="On paper" choices={choices} />;
}
