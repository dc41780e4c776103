import { Button, DatePicker, Input } from "antd";
import type { Dayjs } from "dayjs";
import { useState } from "react";
import { Link } from "react-router";
import { message, type FindingOut } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useRepair } from "../plan/queries";
import { PromiseThis } from "./PromiseThis";
import { Effects } from "../parts/Effects";
import { Remedies } from "./Remedies";

const FIRST = 15;

/** One finding: what it means, whom it touches, what removes it, or why it is accepted. */
export function FindingPanel({ finding }: { finding: FindingOut }) {
  const { id, index, canEdit, edit } = usePlan();
  const [busy, setBusy] = useState(false);
  const [asked, setAsked] = useState<string | null>(null);
  const repair = useRepair(finding);
  const { edits = [], does, effect } = repair.data ?? {};
  const has = edits.length > 0;
  const [paid, setPaid] = useState(false);
  const costs = effect?.free === false;
  const remove = async () => {
    setBusy(true);
    await edit(edits);
    setBusy(false);
  };
  return (
    <>
      <h2>{finding.title}</h2>
      <p>{finding.sentence}</p>
      <p className="muted">{finding.advice}</p>
      {repair.isFetching && !repair.data && (
        <p className="muted" role="status">
          Looking for a repair …
        </p>
      )}
      {repair.isError && <div className="trouble">{message(repair.error)}</div>}
      {has && costs && !paid && (
        <p>
          <button className="plain link" aria-expanded={false} onClick={() => setPaid(true)}>
            Repairs that cost something …
          </button>
        </p>
      )}
      {has && (!costs || paid) && (
        <div className="said-box">
          <div className="row">
            <b>{does}</b>
            <span className="spread" />
            <Button
              size="small"
              type={costs ? "default" : "primary"}
              danger={costs}
              disabled={!canEdit || repair.isFetching}
              loading={busy}
              onClick={() => void remove()}
            >
              {costs ? "Do it anyway" : "Do it"}
            </Button>
          </div>
          {effect && <Effects effect={effect} />}
        </div>
      )}
      <p className="row" style={{ flexWrap: "wrap" }}>
        {finding.about.map((about) => (
          <About key={about} about={about} />
        ))}
      </p>
      {finding.cells.length > 0 && (
        <>
          <h3>Who is affected</h3>
          {finding.cells.slice(0, FIRST).map(({ subject, place, level }) => {
            const key = `${subject}|${place}`;
            return (
              <div key={key} className="breach">
                <div className="row">
                  <LevelTag level={level} />{" "}
                  {subject === "guest" ? (
                    <span>A guest on {pathName(index, place)}</span>
                  ) : (
                    <Link to={`/p/${id}/board?who=${encodeURIComponent(subject)}&place=${encodeURIComponent(place)}`}>
                      {whoName(index, subject)} on {pathName(index, place)}
                    </Link>
                  )}
                </div>
                <div className="row">
                  {!has && (level === "NA" || level === "PT") && (
                    <button className="plain link" aria-expanded={asked === key} onClick={() => setAsked(asked === key ? null : key)}>
                      what would let {subject === "guest" ? "guests" : "them"} in
                    </button>
                  )}
                  <PromiseThis who={subject} place={place} />
                </div>
                {asked === key && <Remedies who={subject} place={place} low="RO" high="RW" />}
              </div>
            );
          })}
          {finding.total > FIRST && <p className="muted">… and {(finding.total - FIRST).toLocaleString()} more cells.</p>}
        </>
      )}
      <Acceptance finding={finding} />
    </>
  );
}

/** A way to where something that a finding is about can be changed. */
function About({ about }: { about: string }) {
  const { id, outline, index } = usePlan();
  const to = encodeURIComponent(about);
  if (index.places.has(about)) return <Link to={`/p/${id}/storage?place=${to}`}>{index.places.get(about)!.name} in Storage</Link>;
  if (index.users.has(about) || index.groups.has(about))
    return <Link to={`/p/${id}/people?who=${to}`}>{whoName(index, about)} in People</Link>;
  const share = outline.shares.find((one) => one.id === about);
  if (share) return <Link to={`/p/${id}/shares?share=${to}`}>{share.name} in Shares</Link>;
  return outline.directories.some((one) => one.id === about) ? (
    <Link to={`/p/${id}/directories`}>{index.directories.get(about)}</Link>
  ) : null;
}

function Acceptance({ finding }: { finding: FindingOut }) {
  const { canEdit, edit } = usePlan();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState(finding.accepted?.reason ?? "");
  const [until, setUntil] = useState<Dayjs | null>(null);
  if (finding.accepted && !finding.open) {
    return (
      <div className="said-box">
        Accepted{finding.accepted.until ? ` until ${finding.accepted.until}` : ""}: {finding.accepted.reason}
        {canEdit && (
          <div>
            <Button size="small" onClick={() => void edit([{ op: "remove-accepted", accepted: finding.id }])}>
              Reopen
            </Button>
          </div>
        )}
      </div>
    );
  }
  if (!canEdit) return null;
  if (!open)
    return (
      <Button size="small" onClick={() => setOpen(true)}>
        Accept …
      </Button>
    );
  const accept = () =>
    void edit([{ op: "put-accepted", accepted: { id: finding.id, reason: reason.trim(), until: until?.format("YYYY-MM-DD") ?? null } }]);
  return (
    <form
      className="said-box"
      onSubmit={(event) => {
        event.preventDefault();
        if (reason.trim()) accept();
      }}
    >
      {finding.accepted && <p className="late">It was accepted until {finding.accepted.until}: look at it again.</p>}
      <label className="field">
        <span>Why it is all right</span>
        <Input.TextArea autoFocus autoSize maxLength={2000} value={reason} onChange={(event) => setReason(event.target.value)} />
      </label>
      <label className="field">
        <span>Review it on (optional)</span>
        <DatePicker size="small" aria-label="Review it on" value={until} onChange={setUntil} />
      </label>
      <div className="row">
        <Button size="small" htmlType="submit" type="primary" disabled={!reason.trim()}>
          Accept
        </Button>
        <Button size="small" onClick={() => setOpen(false)}>
          Cancel
        </Button>
      </div>
    </form>
  );
}
