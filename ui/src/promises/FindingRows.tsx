import { useQueries } from "@tanstack/react-query";
import { Button, DatePicker, Input } from "antd";
import type { Dayjs } from "dayjs";
import { useState } from "react";
import { api, ask, message, type Edit, type FindingOut } from "../api/client";
import { plural } from "../parts/plural";
import { ManyDialog } from "../parts/selection";
import { usePlan } from "../plan/PlanContext";

/** Findings of one severity, by cause; of several with the same cause all can be mended, or accepted, at once. */
export function FindingRows({
  title,
  findings,
  chosen,
  onChoose,
}: {
  title: string;
  findings: FindingOut[];
  chosen: string | undefined;
  onChoose: (id: string) => void;
}) {
  const { canEdit } = usePlan();
  const [act, setAct] = useState<{ what: "mend" | "accept"; several: FindingOut[] } | null>(null);
  if (findings.length === 0 && !act) return null;
  const kinds = new Map<string, FindingOut[]>();
  for (const finding of findings) kinds.set(finding.kind, [...(kinds.get(finding.kind) ?? []), finding]);
  return (
    <section aria-label={title}>
      <h2>
        {title} <span className="muted">{findings.length}</span>
      </h2>
      {[...kinds].map(([kind, alike]) => (
        <div key={kind}>
          {alike.length > 1 && (
            <div className="row alike-head">
              <h3>
                {alike[0]!.title} <span className="muted">{alike.length}</span>
              </h3>
              <span className="spread" />
              {canEdit && alike.some((one) => one.open && one.fixable !== false) && (
                <Button size="small" onClick={() => setAct({ what: "mend", several: alike })}>
                  Do all of this kind …
                </Button>
              )}
              {canEdit && alike.some((one) => one.open) && (
                <Button size="small" onClick={() => setAct({ what: "accept", several: alike })}>
                  Accept all …
                </Button>
              )}
            </div>
          )}
          {alike.map((finding) => (
            <button key={finding.id} className="sentence" aria-pressed={finding.id === chosen} onClick={() => onChoose(finding.id)}>
              <span className={`mark ${finding.severity}`} aria-hidden>
                {finding.severity === "serious" ? "!" : finding.severity === "consider" ? "?" : "·"}
              </span>
              <span>{finding.sentence}</span>
              <span className="muted">{finding.fixable ? "fix available" : finding.total > 0 ? plural(finding.total, "cell") : ""}</span>
            </button>
          ))}
        </div>
      ))}
      {act?.what === "mend" && <MendAll findings={act.several} onClose={() => setAct(null)} />}
      {act?.what === "accept" && <AcceptAll findings={act.several} onClose={() => setAct(null)} />}
    </section>
  );
}

/** The repairs of several findings in one step; those for which there is none are told. */
function MendAll({ findings, onClose }: { findings: FindingOut[]; onClose: () => void }) {
  const { id, outline } = usePlan();
  const asked = findings.filter((one) => one.fixable !== false);
  const found = useQueries({
    queries: asked.map((finding) => ({
      queryKey: ["of-plan", id, "repair", outline.revision, finding.id],
      queryFn: () =>
        ask(api.GET("/api/v1/plans/{plan}/findings/repair", { params: { path: { plan: id }, query: { finding: finding.id } } })),
    })),
  });
  const waiting = found.some((one) => one.isPending);
  const failed = found.find((one) => one.isError);
  const mended = found.filter((one) => (one.data?.edits.length ?? 0) > 0);
  const edits = waiting ? [] : [...new Map(mended.flatMap((one) => one.data!.edits).map((edit) => [JSON.stringify(edit), edit])).values()];
  const left = findings.length - mended.length;
  return (
    <ManyDialog
      title={`${findings[0]!.title}: ${plural(findings.length, "finding")}`}
      ok={edits.length > 0 ? `Do all ${mended.length}` : "Nothing to do"}
      edits={edits}
      onClose={onClose}
    >
      {waiting && <p role="status">Looking for what mends them …</p>}
      {failed && <div className="trouble">{message(failed.error)}</div>}
      {!waiting && (
        <>
          <ul className="words">
            {mended.map((one, number) => (
              <li key={number}>{one.data!.does}</li>
            ))}
          </ul>
          {left > 0 && <p className="late">For {plural(left, "of them", "of them")} only a person can say what is right: these stay.</p>}
        </>
      )}
    </ManyDialog>
  );
}

function AcceptAll({ findings, onClose }: { findings: FindingOut[]; onClose: () => void }) {
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState<Dayjs | null>(null);
  const edits: Edit[] = reason.trim()
    ? findings
        .filter((one) => one.open)
        .map((one) => ({
          op: "put-accepted",
          accepted: { id: one.id, reason: reason.trim(), until: until?.format("YYYY-MM-DD") ?? null },
        }))
    : [];
  return (
    <ManyDialog
      title={`Accept ${plural(findings.length, "finding")}: ${findings[0]!.title}`}
      ok="Accept them"
      edits={edits}
      onClose={onClose}
    >
      <label className="field">
        <span>Why they are all right</span>
        <Input.TextArea autoFocus autoSize maxLength={2000} value={reason} onChange={(event) => setReason(event.target.value)} />
      </label>
      <label className="field">
        <span>Review them on (empty: never)</span>
        <DatePicker value={until} onChange={setUntil} />
      </label>
    </ManyDialog>
  );
}
