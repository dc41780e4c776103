import { Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { KeepingOut, Level } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { Remedies } from "./Remedies";
import { range } from "./words";

const FIRST = 12;

/** One promise: for whom it does not hold, why, and what would repair it. */
export function PromisePanel({ keeping }: { keeping: KeepingOut }) {
  const { id, index, canEdit, edit } = usePlan();
  const { promise, words, meant, broken, breaches } = keeping;
  const [asked, setAsked] = useState<string | null>(null);
  const [low, high]: [Level, Level] = promise.act === "see" ? ["NA", promise.must ? "RW" : "NA"] : range(promise);
  const name = (who: string) => (who === "guest" ? "A guest" : whoName(index, who));
  const repaired = breaches.find((breach) => breach.subject === asked) ?? breaches[0];
  return (
    <>
      <h2>{words}</h2>
      <p className="muted">
        {pathName(index, promise.place)}
        {promise.protocol ? `, over ${promise.protocol.toUpperCase()}` : ", over any share"}
      </p>
      {broken === 0 ? (
        <p>Kept: it holds for {meant === 1 ? "the one person" : `all ${meant}`} of whom it speaks.</p>
      ) : (
        <p className="late">
          Broken for {broken} of {meant}.
        </p>
      )}
      {breaches.slice(0, FIRST).map((breach) => (
        <div key={breach.subject} className="breach">
          <div className="row">
            <b>{name(breach.subject)}</b> <LevelTag level={breach.level} />
          </div>
          <div className="muted">{breach.why}</div>
          <div className="row">
            <button className="plain link" aria-expanded={repaired === breach} onClick={() => setAsked(breach.subject)}>
              {repaired === breach ? "repaired by what is below" : "what would repair it"}
            </button>
            {breach.subject !== "guest" && (
              <Link to={`/p/${id}/board?who=${encodeURIComponent(breach.subject)}&place=${encodeURIComponent(promise.place)}`}>
                on the board
              </Link>
            )}
          </div>
        </div>
      ))}
      {broken > FIRST && <p className="muted">… and {(broken - FIRST).toLocaleString()} more.</p>}
      {repaired && (
        <>
          <h3>What would repair it for {name(repaired.subject)}</h3>
          <Remedies
            key={repaired.subject}
            who={repaired.subject}
            place={promise.place}
            low={low}
            high={high}
            over={promise.protocol}
            seen={promise.act === "see" ? promise.must : undefined}
          />
        </>
      )}
      {canEdit && (
        <p style={{ marginTop: 16 }}>
          <Button size="small" onClick={() => void edit([{ op: "remove-promise", promise: promise.id }])}>
            Remove this promise
          </Button>
        </p>
      )}
    </>
  );
}
