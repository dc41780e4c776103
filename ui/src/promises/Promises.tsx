import { Button, Input, Segmented } from "antd";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, ask, message, type KeepingOut } from "../api/client";
import { Side } from "../parts/Side";
import { plural } from "../parts/plural";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useStanding } from "../plan/queries";
import { FindingPanel } from "./FindingPanel";
import { FindingRows } from "./FindingRows";
import { PromisePanel } from "./PromisePanel";
import { SEVERITIES } from "./words";

/** What must stay true, and what is probably not as it was meant. */
export default function Promises() {
  const [params, setParams] = useSearchParams();
  const found = useStanding();
  const show = params.get("show") === "findings" ? "findings" : "promises";
  const chosen = params.get("chosen");
  const [text, setText] = useState("");
  const put = (change: Record<string, string>) =>
    setParams((old) => ({ show: old.get("show") ?? "promises", ...change }), { replace: "chosen" in change });
  if (found.isError && !found.data)
    return (
      <div className="work">
        <div className="trouble">{message(found.error)}</div>
      </div>
    );
  if (!found.data)
    return (
      <div className="loading" role="status">
        Loading promises and findings …
      </div>
    );
  const { promises, findings, contradictions } = found.data;
  const broken = promises.filter((one) => one.broken > 0);
  const open = findings.filter((one) => one.open);
  const wanted = text.trim().toLowerCase();
  const listed = findings.filter((one) => `${one.title} ${one.sentence}`.toLowerCase().includes(wanted));
  const keeping = promises.find((one) => one.promise.id === chosen) ?? broken[0] ?? promises[0];
  const finding = findings.find((one) => one.id === chosen) ?? open[0];
  return (
    <>
      <div className="work">
        <div className="tools">
          <Segmented
            size="small"
            aria-label="What to look at"
            value={show}
            onChange={(value) => setParams({ show: value })}
            options={[
              { value: "promises", label: `Promises ${promises.length}` },
              { value: "findings", label: `Findings ${open.length}` },
            ]}
          />
          {show === "findings" && findings.length > 5 && (
            <Input
              size="small"
              allowClear
              style={{ width: 170 }}
              placeholder="findings with …"
              aria-label="Only findings with"
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
          )}
          <span>
            {show === "promises"
              ? promises.length === 0
                ? ""
                : broken.length === 0
                  ? "all are kept"
                  : `${broken.length} of ${promises.length} broken`
              : SEVERITIES.map(
                  ([severity, title]) => `${open.filter((one) => one.severity === severity).length} ${title.toLowerCase()}`,
                ).join(" · ")}
          </span>
        </div>
        {show === "promises" ? (
          <div className="sentences">
            <NewPromise onMade={(id) => put({ chosen: id })} />
            {contradictions.map(({ one, other, subject }) => (
              <Contradiction key={`${one} ${other}`} pair={[one, other]} subject={subject} promises={promises} />
            ))}
            {promises.length === 0 && (
              <div className="empty">
                <h2>Nothing is promised yet</h2>
                <p className="muted">
                  A promise is a sentence that must stay true, whatever is changed. It is looked at after every edit, here, on the board and
                  before the rollout. Write one above, or make one from a cell of the board.
                </p>
              </div>
            )}
            <Rows title="Broken" keepings={broken} chosen={keeping?.promise.id} onChoose={(id) => put({ chosen: id })} />
            <Rows
              title="Kept"
              keepings={promises.filter((one) => one.broken === 0)}
              chosen={keeping?.promise.id}
              onChoose={(id) => put({ chosen: id })}
            />
          </div>
        ) : (
          <div className="sentences">
            {findings.length === 0 && (
              <div className="empty">
                <h2>No findings</h2>
                <p className="muted">Nothing in this plan looks unintended.</p>
              </div>
            )}
            {findings.length > 0 && listed.length === 0 && <p className="muted">No finding has “{text}” in it.</p>}
            {SEVERITIES.map(([severity, title]) => (
              <FindingRows
                key={severity}
                title={title}
                findings={listed.filter((one) => one.open && one.severity === severity)}
                chosen={finding?.id}
                onChoose={(id) => put({ chosen: id })}
              />
            ))}
            <FindingRows
              title="Accepted"
              findings={listed.filter((one) => !one.open)}
              chosen={finding?.id}
              onChoose={(id) => put({ chosen: id })}
            />
          </div>
        )}
      </div>
      <Side label={show === "promises" ? "Promise" : "Finding"}>
        {show === "promises" && keeping && <PromisePanel key={keeping.promise.id} keeping={keeping} />}
        {show === "findings" && finding && <FindingPanel key={finding.id} finding={finding} />}
      </Side>
    </>
  );
}

/** A promise typed as a sentence. */
function NewPromise({ onMade }: { onMade: (id: string) => void }) {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [text, setText] = useState("");
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  if (!canEdit) return null;
  const deepest =
    [...index.places.values()].find((place) => place.parent && !index.children.has(place.id)) ?? [...index.places.values()][0];
  const group = index.groupsByName.find((one) => one.id !== outline.target.baseline);
  const example =
    deepest && group
      ? `Everyone but ${group.name} must not be able to read ${pathName(index, deepest.id)}`
      : "WHO must be able to read PLACE";
  const make = async () => {
    if (!text.trim()) return;
    setBusy(true);
    setTrouble("");
    try {
      const read = await ask(api.POST("/api/v1/plans/{plan}/promises/read", { params: { path: { plan: id } }, body: { text } }));
      if (await edit([{ op: "put-promise", promise: read.promise }])) {
        setText("");
        onMade(read.promise.id);
      }
    } catch (error) {
      setTrouble(message(error));
    }
    setBusy(false);
  };
  return (
    <form
      className="new-promise"
      onSubmit={(event) => {
        event.preventDefault();
        void make();
      }}
    >
      <div className="row">
        <Input
          aria-label="Promise in a sentence"
          placeholder={example}
          value={text}
          status={trouble ? "error" : undefined}
          onChange={(event) => {
            setText(event.target.value);
            setTrouble("");
          }}
        />
        <Button htmlType="submit" loading={busy} disabled={!text.trim()}>
          Promise it
        </Button>
      </div>
      {trouble ? (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      ) : (
        <p className="muted">
          WHO [but WHO and WHO] must [not] be able to see, read or write PLACE [over SMB or NFS]; or “only WHO can read PLACE”. Everyone
          takes in the guest where they must not.
        </p>
      )}
    </form>
  );
}

function Contradiction({ pair, subject, promises }: { pair: [string, string]; subject: string; promises: KeepingOut[] }) {
  const { index } = usePlan();
  const words = pair.map((one) => promises.find((keeping) => keeping.promise.id === one)?.words ?? one);
  return (
    <div className="trouble">
      These two cannot both be kept, as both speak of {subject === "guest" ? "the guest" : whoName(index, subject)}: “{words[0]}” and “
      {words[1]}”.
    </div>
  );
}

function Rows({
  title,
  keepings,
  chosen,
  onChoose,
}: {
  title: string;
  keepings: KeepingOut[];
  chosen: string | undefined;
  onChoose: (id: string) => void;
}) {
  if (keepings.length === 0) return null;
  return (
    <section aria-label={title}>
      <h2>
        {title} <span className="muted">{keepings.length}</span>
      </h2>
      {keepings.map(({ promise, words, meant, broken }) => (
        <button key={promise.id} className="sentence" aria-pressed={promise.id === chosen} onClick={() => onChoose(promise.id)}>
          <span className={`mark ${broken ? "broken" : "kept"}`} aria-hidden>
            {broken ? "✗" : "✓"}
          </span>
          <span>{words}</span>
          <span className={broken ? "late" : "muted"}>
            {broken
              ? `not for ${broken === meant ? plural(meant, "person", "people") : `${broken} of ${meant}`}`
              : meant === 0
                ? "speaks of nobody now"
                : plural(meant, "person", "people")}
          </span>
        </button>
      ))}
    </section>
  );
}
