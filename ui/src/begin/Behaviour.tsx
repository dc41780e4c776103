import { useState } from "react";
import type { Edit, Schemas } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { Changes } from "../parts/Changes";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";
import { useWhatIf } from "../plan/queries";

type Begun = Schemas["BeginOut"];
type Question = Schemas["QuestionOut"];

/** What the appliance does where appliances differ: by its kind, or question by question. What is not known is assumed, and says whom it concerns. */
export function Behaviour({ begin }: { begin: Begun }) {
  const { canEdit, edit } = usePlan();
  const asked = begin.questions.filter((question) => question.matters);
  const [chosen, setChosen] = useState<string | null>(null);
  const at = Math.max(
    0,
    asked.findIndex((one) => (chosen ? one.id === chosen : !one.answered)),
  );
  const question = asked[at];
  const set = (target: Schemas["Target"], stay = true) => {
    const edits: Edit[] = [{ op: "set-target", target }];
    void edit(edits).then((kept) => kept && !stay && setChosen(null));
  };
  return (
    <div className="behaviour">
      <h2>What your appliance does</h2>
      <p className="muted">Appliances differ here, and so does what people get. Say what kind yours is, or answer question by question.</p>
      <div role="group" aria-label="Kinds of appliances">
        {begin.profiles.map((profile) => (
          <button
            key={profile.id}
            className={`plain card-button${profile.taken ? " taken" : ""}`}
            aria-pressed={profile.taken}
            disabled={!canEdit}
            onClick={() => set(profile.target)}
          >
            <b>
              {profile.title}
              {profile.taken && " ✓"}
            </b>
            <span className="muted">{profile.words}</span>
          </button>
        ))}
      </div>
      <div className="dots" role="group" aria-label="Questions">
        {asked.map((one, number) => (
          <button
            key={one.id}
            className={`plain dot-button${one.answered ? " known" : ""}`}
            aria-current={number === at ? "true" : undefined}
            aria-label={`Question ${number + 1}, ${one.title}: ${one.answered ? "answered" : "not answered"}`}
            title={one.title}
            onClick={() => setChosen(one.id)}
          >
            {one.answered ? "✓" : number + 1}
          </button>
        ))}
        <span className="muted">
          {asked.filter((one) => one.answered).length} of {asked.length} answered
        </span>
      </div>
      {question && <OneQuestion key={question.id} question={question} canEdit={canEdit} onSet={(target) => set(target, false)} />}
    </div>
  );
}

function OneQuestion({ question, canEdit, onSet }: { question: Question; canEdit: boolean; onSet: (target: Schemas["Target"]) => void }) {
  return (
    <section className="question">
      <h3>{question.title}</h3>
      <p>{question.asks}</p>
      <div className="example" aria-hidden="true">
        <span className="grants-said">
          {question.said.map((one) => (
            <span key={one.who} className={`chip ${one.level}`}>
              {one.who} <LevelTag level={one.level} />
            </span>
          ))}
        </span>
        <span>→</span>
        <b>{question.who}</b>
        <span>→</span>
        <span className="chip">{question.where} ?</span>
      </div>
      {question.choices.map((choice) => (
        <Answer key={choice.id} choice={choice} question={question} canEdit={canEdit} onSet={onSet} />
      ))}
      <button
        className={`plain answer${question.answered ? "" : " taken"}`}
        aria-pressed={!question.answered}
        disabled={!canEdit}
        onClick={() => onSet(question.unanswered)}
      >
        <b>I do not know yet.</b> <span className="muted">What is marked “assumed” counts until then.</span>
      </button>
      <details>
        <summary>How to find out in a few minutes</summary>
        <p>{question.find_out}</p>
      </details>
    </section>
  );
}

function Answer({
  choice,
  question,
  canEdit,
  onSet,
}: {
  choice: Question["choices"][number];
  question: Question;
  canEdit: boolean;
  onSet: (target: Schemas["Target"]) => void;
}) {
  const { index } = usePlan();
  const [open, setOpen] = useState(false);
  const would = useWhatIf(choice.taken ? undefined : [{ op: "set-target", target: choice.target }]);
  const cells = would.data?.changed.total ?? 0;
  const is = choice.taken ? (question.answered ? "yes" : "assumed") : "";
  return (
    <>
      <button
        className={`plain answer${choice.taken && question.answered ? " taken" : ""}`}
        aria-pressed={choice.taken && question.answered}
        disabled={!canEdit}
        onClick={() => onSet(choice.target)}
      >
        <b>{choice.happens}</b> <span className="muted">{choice.words}</span>
        {is && <span className="count">{is}</span>}
      </button>
      {cells > 0 && (
        <div className="differs">
          <button className="plain link" aria-expanded={open} onClick={() => setOpen(!open)}>
            Then {plural(cells, "cell comes", "cells come")} out otherwise
          </button>
          {open && <Changes changed={would.data!.changed} index={index} most={8} />}
        </div>
      )}
    </>
  );
}
