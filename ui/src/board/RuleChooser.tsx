import { useQuery } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { useState } from "react";
import { api, ask, message } from "../api/client";
import { Changes } from "../parts/Changes";
import { usePlan } from "../plan/PlanContext";

const TIERS = { pooled: "All grants count together", nearest: "The nearest grants decide: own, then groups, then everyone" };
const WITHIN = { refusal: "a refusal wins", widest: "the widest wins", narrowest: "the narrowest wins", first: "the first line wins" };

/** The clash rule in force, and what would come out differently under each other one. */
export function RuleChooser() {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [open, setOpen] = useState(false);
  const [picked, setPicked] = useState<string | null>(null);
  const rules = useQuery({ queryKey: ["of-plan", id, "rules"], queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rules", { params: { path: { plan: id } } })), enabled: open });
  const key = (rule: { tiers: string; within: string }) => `${rule.tiers} ${rule.within}`;
  const current = key({ tiers: outline.target.tiers ?? "pooled", within: outline.target.within ?? "refusal" });
  const shown = rules.data?.find((rule) => key(rule) === (picked ?? current));

  const take = async () => {
    if (!shown) return;
    const kept = await edit([{ op: "set-target", target: { ...outline.target, tiers: shown.tiers, within: shown.within } }]);
    if (kept) setOpen(false);
  };

  return (
    <>
      <span className="row">
        when grants clash: <Button size="small" onClick={() => { setPicked(null); setOpen(true); }} aria-haspopup="dialog">{outline.rule}</Button>
      </span>
      <Modal title="When grants clash" open={open} onCancel={() => setOpen(false)} width={760} okText="Take this rule" okButtonProps={{ disabled: !canEdit || !shown || key(shown) === current }} onOk={() => void take()} cancelText="Leave it">
        <p className="muted">Appliances differ in what several grants to one person add up to. Choose a rule to see whom it would treat differently; nothing changes until you take it.</p>
        {rules.isError && <div className="trouble">{message(rules.error)}</div>}
        {!rules.data && !rules.isError && <p role="status">Trying all eight rules …</p>}
        {rules.data && (
          <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 20 }}>
            <div role="radiogroup" aria-label="Clash rule">
              {(["pooled", "nearest"] as const).map((tiers) => (
                <div key={tiers}>
                  <h3 style={{ margin: "8px 0 4px", fontSize: 13 }}>{TIERS[tiers]}</h3>
                  {rules.data.filter((rule) => rule.tiers === tiers).map((rule) => (
                    <label key={key(rule)} className="row" style={{ padding: "3px 0" }}>
                      <input type="radio" name="rule" checked={key(rule) === (picked ?? current)} onChange={() => setPicked(key(rule))} />
                      <span className="spread">{WITHIN[rule.within]}</span>
                      <span className="muted">{rule.taken ? "in force" : rule.changed.total === 0 ? "no difference" : `${rule.changed.total.toLocaleString()} cells differ`}</span>
                    </label>
                  ))}
                </div>
              ))}
            </div>
            <div style={{ maxHeight: 300, overflow: "auto" }} aria-live="polite">
              {shown && key(shown) !== current ? <Changes changed={shown.changed} index={index} /> : <p className="muted">This is the rule in force.</p>}
            </div>
          </div>
        )}
      </Modal>
    </>
  );
}
