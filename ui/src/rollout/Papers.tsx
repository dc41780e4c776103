import { Button, Dropdown } from "antd";
import { usePlan } from "../plan/PlanContext";

const PAPERS = [
  { key: "page", label: "Runbook, to print", steps: true },
  { key: "runbook", label: "Runbook (Markdown)", steps: true },
  { key: "script", label: "Script, with dry run and undo", steps: true },
  { key: "smb", label: "Shares, for the SMB server’s configuration", steps: false },
  { key: "exports", label: "Exports, for /etc/exports.d", steps: false },
  { key: "setfacl", label: "Owners and lists, for setfacl --restore", steps: false },
  { key: "nfs4", label: "Ordered lists, for nfs4_setfacl", steps: false },
  { key: "ldif", label: "Local people and groups (LDIF)", steps: false },
];

/** A rollout to take away. steps: whether there are any to do; only: which papers, where not all. */
export function Papers({ query, steps = true, only }: { query: string; steps?: boolean; only?: string[] }) {
  const { id } = usePlan();
  const items = PAPERS.filter((paper) => (steps || !paper.steps) && (!only || only.includes(paper.key)));
  return <Dropdown trigger={["click"]} menu={{ items, onClick: ({ key }) => window.location.assign(`/api/v1/plans/${id}/rollout/take-away/${key}?${query}`) }}><Button size="small">On paper ▾</Button></Dropdown>;
}
