import { Button, Dropdown } from "antd";
import { usePlan } from "../plan/PlanContext";
import { useFormats } from "../plan/queries";

/** A rollout to take away. steps: whether there are any to do; only: which papers, where not all. */
export function Papers({ query, steps = true, only }: { query: string; steps?: boolean; only?: string[] }) {
  const { id } = usePlan();
  const papers = useFormats().filter(({ of, name }) => (of === "system" || (of === "steps" && steps)) && (!only || only.includes(name)));
  const items = papers.map(({ name, words }) => ({ key: name, label: words }));
  return (
    <Dropdown
      trigger={["click"]}
      menu={{ items, onClick: ({ key }) => window.location.assign(`/api/v1/plans/${id}/rollout/take-away/${key}?${query}`) }}
    >
      <Button size="small">On paper ▾</Button>
    </Dropdown>
  );
}
