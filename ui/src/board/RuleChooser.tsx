import { useQuery } from "@tanstack/react-query";
import { Button, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type Target } from "../api/client";
import { combining as WITHIN } from "../api/facts.json";
import { cellsWords, Changes } from "../parts/Changes";
import { usePlan } from "../plan/PlanContext";
import { useWhatIf } from "../plan/queries";

const TIERS = { pooled: "All grants count together", nearest: "The nearest grants decide: own, then groups, then everyone" };

/** What this appliance does where appliances differ: the clash rule and how storage is entered, and whom another answer would concern. */
export function RuleChooser() {
  const { id, outline, index, canEdit, edit } = usePlan();
  const inForce = outline.target;
  const [open, setOpen] = useState(false);
  const [draft, setDraft] = useState<Target>(inForce);
  const rules = useQuery({
    queryKey: ["of-plan", id, "rules"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rules", { params: { path: { plan: id } } })),
    enabled: open,
  });
  const differs = JSON.stringify(draft) !== JSON.stringify(inForce);
  const edits = differs ? [{ op: "set-target" as const, target: draft }] : undefined;
  const would = useWhatIf(open ? edits : undefined);

  return (
    <>
      <span className="row">
        <Button
          size="small"
          title="What counts where several grants concern one person"
          onClick={() => {
            setDraft(inForce);
            setOpen(true);
          }}
          aria-haspopup="dialog"
        >
          {outline.rule}
        </Button>
      </span>
      <Modal
        title="What this appliance does"
        open={open}
        onCancel={() => setOpen(false)}
        width={820}
        okText="Apply"
        okButtonProps={{ disabled: !canEdit || !would.data }}
        onOk={() => edits && void edit(edits).then((kept) => kept && setOpen(false))}
        cancelText="Cancel"
      >
        <p className="muted">
          Appliances differ here. Choose what yours does to see whom it would treat differently; nothing changes until you apply it.
        </p>
        {rules.isError && <div className="trouble">{message(rules.error)}</div>}
        {!rules.data && !rules.isError && <p role="status">Trying all eight rules …</p>}
        {rules.data && (
          <div className="target">
            <div>
              <h3>When several grants apply to one person</h3>
              <div role="radiogroup" aria-label="Rule for several grants">
                {(["pooled", "nearest"] as const).map((tiers) => (
                  <div key={tiers}>
                    <h4>{TIERS[tiers]}</h4>
                    {rules.data
                      .filter((rule) => rule.precedence === tiers)
                      .map((rule) => (
                        <label key={rule.combining} className="row">
                          <input
                            type="radio"
                            name="rule"
                            checked={draft.precedence === tiers && draft.combining === rule.combining}
                            onChange={() => setDraft({ ...draft, precedence: tiers, combining: rule.combining })}
                          />
                          <span className="spread">{WITHIN[rule.combining]}</span>
                          <span className="muted">
                            {rule.taken
                              ? "in force"
                              : rule.changed.total === 0
                                ? "no difference"
                                : `${rule.changed.total.toLocaleString()} cells differ`}
                          </span>
                        </label>
                      ))}
                  </div>
                ))}
              </div>
              <h3>On storage</h3>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.traverse === "checked"}
                  onChange={(event) => setDraft({ ...draft, traverse: event.target.checked ? "checked" : "bypassed" })}
                />
                <span>
                  Every folder on the way down asks for the right to enter
                  <br />
                  <span className="muted">A Linux kernel asks. An SMB server that keeps ordered lists itself does not.</span>
                </span>
              </label>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.attributes_open}
                  onChange={(event) => setDraft({ ...draft, attributes_open: event.target.checked })}
                />
                <span>
                  Everybody may read attributes, whatever an ordered list says
                  <br />
                  <span className="muted">Such an SMB server lets them.</span>
                </span>
              </label>
              <h3>Shares over SMB</h3>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.share_groups}
                  onChange={(event) => setDraft({ ...draft, share_groups: event.target.checked })}
                />
                <span>
                  People granted something by name are in groups of the share
                  <br />
                  <span className="muted">
                    A rollout makes these groups, as share-payroll-read. Otherwise the server’s configuration names the people. Everybody
                    gets the same either way.
                  </span>
                </span>
              </label>
              <h3>Over NFS</h3>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.nfs_traverse === "checked"}
                  onChange={(event) => setDraft({ ...draft, nfs_traverse: event.target.checked ? "checked" : "bypassed" })}
                />
                <span>
                  Folders above a share ask for the right to enter
                  <br />
                  <span className="muted">A Linux kernel's server asks clients of version 4, not those of version 3.</span>
                </span>
              </label>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.host_rules === "narrowest"}
                  onChange={(event) => setDraft({ ...draft, host_rules: event.target.checked ? "narrowest" : "first" })}
                />
                <span>
                  Of host rules for one host the narrowest counts
                  <br />
                  <span className="muted">Otherwise the first.</span>
                </span>
              </label>
              <label className="row">
                <input
                  type="checkbox"
                  checked={draft.wildcards === "both"}
                  onChange={(event) => setDraft({ ...draft, wildcards: event.target.checked ? "both" : "names" })}
                />
                <span>
                  * and ? in a host rule match addresses too
                  <br />
                  <span className="muted">A Linux kernel's server compares them with host names alone.</span>
                </span>
              </label>
            </div>
            <div className="scroll" aria-live="polite" tabIndex={0}>
              {!differs ? (
                <p className="muted">This is what the plan says of the appliance now.</p>
              ) : would.isError ? (
                <div className="trouble">{message(would.error)}</div>
              ) : !would.data ? (
                <p role="status">Working out what would change …</p>
              ) : (
                <>
                  {would.data.changed.total > 0 && <h3>{cellsWords(would.data.changed)} come out differently</h3>}
                  <Changes changed={would.data.changed} index={index} />
                </>
              )}
            </div>
          </div>
        )}
      </Modal>
    </>
  );
}
