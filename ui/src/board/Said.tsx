import { Popover } from "antd";
import { Link } from "react-router";
import type { Answer, Level, Schemas } from "../api/client";
import { WORDS } from "../parts/ArmSign";
import { cellsWords, Changes } from "../parts/Changes";
import { usePlan } from "../plan/PlanContext";

/** What an edit that is pointed at would change. */
export interface Would {
  answer: Answer;
  level: Level | null;
}

/** A number in a sentence, in rust where it is somebody. */
function tally(number: number, one: string, many: string, what: string) {
  return (
    <span className={number > 0 ? "late" : ""}>
      {number === 0 ? "nobody gets" : `${number.toLocaleString()} ${number === 1 ? one : many}`} {what}
    </span>
  );
}

/** Above the board: what an edit would change, what the last one did, else how what people get stands to what is granted. */
export function Said({
  would,
  failed,
  stands,
  onSettled,
}: {
  would: Would | null;
  failed: boolean;
  stands: Schemas["Stands"] | undefined;
  onSettled: () => void;
}) {
  const { id, outline, index, canEdit, last } = usePlan();
  const others = last ? last.changed : null;
  return (
    <div className={`said ${would ? "would" : last ? "" : "quiet"}`} role="status">
      {would ? (
        <>
          {would.level ? `Would set ${WORDS[would.level]}` : "Would clear the grant"}:{" "}
          {would.answer.changed.total === 0
            ? "nothing would come out differently"
            : `${cellsWords(would.answer.changed)} would come out differently (outlined)`}
          .
        </>
      ) : last && others ? (
        <>
          <span style={{ overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>{last.words}</span>
          <Popover
            trigger="click"
            placement="bottomLeft"
            content={
              <div style={{ width: 360, maxHeight: 320, overflow: "auto" }}>
                <Changes changed={others} index={index} />
              </div>
            }
          >
            <button className="plain" style={{ textDecoration: "underline", whiteSpace: "nowrap" }}>
              {others.total === 0 ? "nothing came out differently" : `${cellsWords(others)} came out differently`}
            </button>
          </Popover>
        </>
      ) : failed ? (
        <>The server does not answer; what is shown may be old.</>
      ) : (
        <>
          {outline.shares.length === 0 && (
            <span className="late">
              Nothing is shared yet: this is what grants and storage would give. <Link to={`/p/${id}/shares`}>Add a share</Link> ·{" "}
            </span>
          )}
          {outline.shares.length > 0 && stands && (
            <span>
              {tally(stands.more, "gets", "get", "more than granted")} · {tally(stands.less, "gets", "get", "less")} ·{" "}
              {stands.settled > 0 ? (
                <button className="plain" style={{ textDecoration: "underline" }} onClick={onSettled}>
                  {stands.settled.toLocaleString()} settled by the rule
                </button>
              ) : (
                "none settled by the rule"
              )}{" "}
              ·{" "}
            </span>
          )}
          {canEdit
            ? "arrows move, w read-write, r read-only, n no access, Backspace not set; ? all keys"
            : outline.archived
              ? "this plan is archived: it can be read, not changed"
              : "you may read this plan, not change it"}
        </>
      )}
    </div>
  );
}
