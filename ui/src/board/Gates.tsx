import { useState } from "react";
import type { ReasonOut } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { whoLabel } from "../storage/editors";
import { maskLevel, maskWords, perms, permsLevel } from "../storage/words";

type ListLine = NonNullable<ReasonOut["reason"]["gates"][number]["entries"]>[number];
const LIST_VERDICTS: Record<ListLine["verdict"], string> = {
  decides: "decides",
  "too late": "decided earlier",
  "not theirs": "for others",
  "not here": "not in this folder",
  limits: "limits",
  idle: "no effect",
};

/** The lines of a storage list; those that are not theirs are folded away, to be asked for. */
function Entries({ entries }: { entries: ListLine[] }) {
  const { index } = usePlan();
  const [all, setAll] = useState(false);
  const numbered = entries.map((line, number) => ({ line, number: number + 1 }));
  const theirs = numbered.filter(({ line }) => line.verdict !== "not theirs" && line.verdict !== "idle");
  const shown = all ? numbered : theirs;
  const name = (line: ListLine) =>
    line.who
      ? whoLabel(index, line.who)
      : { user: "Owner", group: "Owning group", other: "Everybody else", mask: "Mask" }[line.says as string];
  return (
    <>
      {shown.map(({ line, number }) => {
        const ordered = line.says === "allow" || line.says === "deny";
        return (
          <div key={number} className={`line ${line.verdict === "decides" ? "decides" : ""}`}>
            <span>
              {number} {line.says === "deny" ? "refuse " : ""}
              {name(line)}{" "}
              <span className={`tag ${line.says === "deny" ? "NA" : ordered ? maskLevel(line.mask) : permsLevel(line.mask)}`}>
                {ordered ? maskWords(line.mask) : perms(line.mask)}
              </span>
            </span>
            <span>{LIST_VERDICTS[line.verdict]}</span>
          </div>
        );
      })}
      {theirs.length < entries.length && (
        <div className="line">
          <button className="plain" onClick={() => setAll(!all)}>
            {all
              ? "Only the lines that concern them"
              : `${entries.length - theirs.length} more ${entries.length - theirs.length === 1 ? "line concerns" : "lines concern"} others`}
          </button>
          <span />
        </div>
      )}
    </>
  );
}

const VERDICTS: Record<string, string> = {
  decides: "decides",
  outranked: "overruled",
  farther: "less specific",
  "too late": "decided earlier",
};

/** Gates that say nothing more than that one passes. */
function quiet(gate: ReasonOut["reason"]["gates"][number]) {
  return gate.kind === "service" ? gate.level === "RW" : gate.kind === "account" && gate.sentence.endsWith("may sign in.");
}

/** The gates that somebody passes, in order, and what each one says. top: the place whose grants count at the share. */
export function Gates({ reason, top = reason.place }: { reason: Omit<ReasonOut["reason"], "rights">; top?: string }) {
  const { outline, index } = usePlan();
  return (
    <>
      {reason.gates.map((gate, number) => (
        <section
          key={gate.kind}
          className={`gate ${gate.decides ? "decides" : ""}`}
          aria-label={gate.title}
          title={quiet(gate) ? gate.sentence : undefined}
        >
          <header>
            <span className="spread">
              {number + 1} · {gate.title}
            </span>
            {gate.kind === "share" && reason.enforced_by === "storage" ? (
              <span style={{ fontWeight: 400 }}>
                <span className="muted">enforced by the list</span> <LevelTag level={reason.granted} />
              </span>
            ) : ["account", "service", "way"].includes(gate.kind) && gate.level === "RW" ? (
              <span className="muted" style={{ fontWeight: 400 }}>
                lets them through
              </span>
            ) : (
              <LevelTag level={gate.level} />
            )}
          </header>
          {!(quiet(gate) && !gate.decides) && <p>{gate.sentence}</p>}
          {gate.steps?.map((step) => (
            <div key={step.place} className={`line ${step.enters ? "" : "decides"}`}>
              <span>{pathName(index, step.place)}</span>
              <span>{step.enters ? "may enter" : "may not enter"}</span>
            </div>
          ))}
          {gate.entries && <Entries entries={gate.entries} />}
          {gate.lines?.map((line) => (
            <div key={line.who} className={`line ${line.verdict === "decides" ? "decides" : ""}`}>
              <span>
                <LevelTag level={line.level} /> {line.tier === "own" ? "their own grant" : whoName(index, line.who)}
              </span>
              <span>{VERDICTS[line.verdict]}</span>
              {line.way.length > 2 && (
                <span className="way">
                  through{" "}
                  {line.way
                    .slice(1, -1)
                    .map((step) => whoName(index, step))
                    .join(", then ")}
                </span>
              )}
              {line.said_on !== top && <span className="way">comes down from {pathName(index, line.said_on)}</span>}
              {line.way.length === 2 && line.who === outline.target.baseline && (
                <span className="way">the baseline: everybody is in it</span>
              )}
            </div>
          ))}
        </section>
      ))}
    </>
  );
}
