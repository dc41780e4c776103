import { useQuery } from "@tanstack/react-query";
import { Button, Input, Modal, Segmented, Select } from "antd";
import { useEffect, useState } from "react";
import { api, ask, message, type Answer, type Edit, type Place } from "../api/client";
import { cellsWords, Changes } from "../parts/Changes";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useWhatIf } from "../plan/queries";
import { STYLE_WORDS, type Style } from "./words";

/** A change of several edits, looked at before it is kept: what it overwrites, and which cells come out differently. */
function Preview({
  edits,
  lost,
  nothing,
  onReady,
}: {
  edits: Edit[] | undefined;
  lost?: { place: string; words: string[]; left: boolean }[];
  nothing: string;
  onReady: (ready: boolean) => void;
}) {
  const { index } = usePlan();
  const would = useWhatIf(edits);
  const answer: Answer | undefined = would.data;
  useEffect(() => onReady(answer !== undefined), [answer, onReady]);
  if (!edits) return <p role="status">Working out what would change …</p>;
  const going = lost?.filter((place) => !place.left) ?? [];
  const staying = lost?.filter((place) => place.left) ?? [];
  return (
    <>
      {going.length > 0 && <Losses title="This goes" places={going} />}
      {staying.length > 0 && <Losses title="This stays as it is" places={staying} />}
      {edits.length === 0 ? (
        <p className="muted">{nothing}</p>
      ) : would.isError ? (
        <div className="trouble">{message(would.error)}</div>
      ) : !answer ? (
        <p role="status">Working out what would change …</p>
      ) : (
        <>
          <h3>{answer.changed.total === 0 ? "Nobody gets more or less by it" : `${cellsWords(answer.changed)} come out differently`}</h3>
          {answer.changed.total > 0 && (
            <div className="scroll" tabIndex={0}>
              <Changes changed={answer.changed} index={index} most={100} />
            </div>
          )}
        </>
      )}
    </>
  );

  function Losses({ title, places }: { title: string; places: { place: string; words: string[] }[] }) {
    return (
      <>
        <h3>{title}</h3>
        <ul className="words" tabIndex={0}>
          {places.map(({ place, words }) => (
            <li key={place}>
              <b>{pathName(index, place)}</b>: {words.join("; ")}
            </li>
          ))}
        </ul>
      </>
    );
  }
}

export function PushDown({ place, onClose }: { place: Place; onClose: () => void }) {
  const { id, outline, edit } = usePlan();
  const [everything, setEverything] = useState(false);
  const [ready, setReady] = useState(false);
  const found = useQuery({
    queryKey: ["of-plan", id, "push", place.id, everything, outline.revision],
    queryFn: () =>
      ask(api.GET("/api/v1/plans/{plan}/storage/push-down", { params: { path: { plan: id }, query: { place: place.id, everything } } })),
  });
  return (
    <Modal
      title={`Push the list of ${place.name} down`}
      width={620}
      open
      onCancel={onClose}
      okText="Push down"
      okButtonProps={{ disabled: !ready, danger: everything }}
      onOk={() => void edit(found.data!.edits).then((kept) => kept && onClose())}
    >
      <Segmented
        block
        value={everything ? "all" : "what follows"}
        onChange={(value) => setEverything(value === "all")}
        options={[
          { value: "what follows", label: "Only where inheritance goes on" },
          { value: "all", label: "Everything below, even where it stops" },
        ]}
      />
      <p className="muted">
        Places below lose what they have of their own (lines, owners, grants) and just follow {place.name}. Undo brings it back.
      </p>
      {found.isError ? (
        <div className="trouble">{message(found.error)}</div>
      ) : (
        <Preview
          edits={found.data?.edits}
          lost={found.data?.lost}
          nothing="Everything this would reach inherits already."
          onReady={setReady}
        />
      )}
    </Modal>
  );
}

export function ChangeStyle({ place, present, onClose }: { place: Place; present: Style | null; onClose: () => void }) {
  const { id, outline, edit } = usePlan();
  const [to, setTo] = useState<Style>(present === "ordered" ? "posix" : "ordered");
  const [ready, setReady] = useState(false);
  const found = useQuery({
    queryKey: ["of-plan", id, "style", place.id, to, outline.revision],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage/style", { params: { path: { plan: id }, query: { place: place.id, to } } })),
  });
  return (
    <Modal
      title={`Another list style for ${place.name}`}
      width={620}
      open
      onCancel={onClose}
      okText={`Change to ${STYLE_WORDS[to]}`}
      okButtonProps={{ disabled: !ready, danger: (found.data?.lost.length ?? 0) > 0 }}
      onOk={() => void edit(found.data!.edits).then((kept) => kept && onClose())}
    >
      <Segmented
        block
        value={to}
        onChange={setTo}
        options={(Object.keys(STYLE_WORDS) as Style[]).map((style) => ({
          value: style,
          label: STYLE_WORDS[style],
          disabled: style === present,
        }))}
      />
      <p className="muted">What is granted is made into the new style; lines by hand are translated as closely as it allows.</p>
      {found.data && found.data.lost.length === 0 && <p>The new style can express all lines by hand.</p>}
      {found.isError ? (
        <div className="trouble">{message(found.error)}</div>
      ) : (
        <Preview edits={found.data?.edits} lost={found.data?.lost} nothing="It has this style already." onReady={setReady} />
      )}
    </Modal>
  );
}

/** Begin with a starting kind, or with a list kept under a name. */
export function Begin({ place, onClose }: { place: Place; onClose: () => void }) {
  const { id, outline, edit } = usePlan();
  const [chosen, setChosen] = useState<string | null>(null);
  const [ready, setReady] = useState(false);
  const kinds = useQuery({
    queryKey: ["of-plan", id, "kinds", place.id, outline.revision],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage/kinds", { params: { path: { plan: id }, query: { place: place.id } } })),
  });
  const patterns = outline.patterns.map((pattern) => ({
    id: `pattern ${pattern.id}`,
    title: pattern.name,
    words: pattern.note || "A list kept as a pattern.",
    sets: [STYLE_WORDS[pattern.acl.style], "replaces the lines by hand"],
    edits: [{ op: "put-place", place: { ...place, acl: pattern.acl } }] as Edit[],
  }));
  const all = [...(kinds.data ?? []), ...patterns];
  const edits = all.find((kind) => kind.id === chosen)?.edits;
  return (
    <Modal
      title={`Start ${place.name} over with`}
      width={680}
      open
      onCancel={onClose}
      okText="Apply"
      okButtonProps={{ disabled: !ready }}
      onOk={() => void edit(edits!).then((kept) => kept && onClose())}
    >
      {kinds.isError && <div className="trouble">{message(kinds.error)}</div>}
      <div role="radiogroup" aria-label="What it is for" className="kinds">
        {all.map((kind) => (
          <button
            key={kind.id}
            type="button"
            role="radio"
            aria-checked={kind.id === chosen}
            className="kind-card"
            onClick={() => setChosen(kind.id)}
          >
            <b>{kind.title}</b>
            <span>{kind.words}</span>
            <span className="muted">{kind.sets.join(" · ")}</span>
          </button>
        ))}
      </div>
      {chosen?.startsWith("pattern ") && edits && (
        <p>
          <Button
            size="small"
            danger
            onClick={() => void edit([{ op: "remove-pattern", pattern: chosen.slice(8) }]).then((kept) => kept && setChosen(null))}
          >
            Delete this pattern
          </Button>{" "}
          <span className="muted">Places that were given it keep their lists.</span>
        </p>
      )}
      {chosen && <Preview edits={edits} nothing="Nothing would change." onReady={setReady} />}
    </Modal>
  );
}

/** A list as text, to copy, to paste, or to keep as a pattern. */
export function AsText({ place, style, text, onClose }: { place: Place; style: Style; text: string; onClose: () => void }) {
  const { id, outline, index, add, edit, canEdit } = usePlan();
  const [value, setValue] = useState(text);
  const [name, setName] = useState("");
  const [trouble, setTrouble] = useState<string | null>(null);
  const take = async () => {
    try {
      const found = await ask(
        api.POST("/api/v1/plans/{plan}/storage/text", { params: { path: { plan: id } }, body: { style, text: value } }),
      );
      if (await edit([{ op: "put-place", place: { ...place, acl: found.acl } }])) onClose();
    } catch (error) {
      setTrouble(message(error));
    }
  };
  const others = outline.places.filter((other) => other.id !== place.id && other.acl?.style === style);
  return (
    <Modal
      title={`Lines by hand of ${place.name}, as text`}
      width={620}
      open
      onCancel={onClose}
      okText="Put this list here"
      okButtonProps={{ disabled: !canEdit || value === text }}
      onOk={() => void take()}
    >
      <p className="muted">
        {style === "ordered"
          ? "In the notation of nfs4_acl(5): type, flags, who, permissions."
          : style === "posix"
            ? "As getfacl prints it and setfacl reads it."
            : "An octal mode."}{" "}
        Select and copy it, or paste another.
      </p>
      <Input.TextArea
        aria-label="The list as text"
        value={value}
        onChange={(event) => {
          setValue(event.target.value);
          setTrouble(null);
        }}
        autoSize={{ minRows: 5, maxRows: 14 }}
        style={{ fontFamily: "var(--mono)", fontSize: 12.5 }}
        spellCheck={false}
      />
      {trouble && <div className="trouble">{trouble}</div>}
      {others.length > 0 && canEdit && (
        <label className="field" style={{ marginTop: 10 }}>
          <span>Or copy the lines of another place</span>
          <Select
            showSearch={{ optionFilterProp: "label" }}
            style={{ width: "100%" }}
            value={null}
            placeholder="Choose a place"
            options={others.map((other) => ({ value: other.id, label: pathName(index, other.id) }))}
            onChange={(from: string | null) => {
              if (from)
                void edit([{ op: "put-place", place: { ...place, acl: index.places.get(from)!.acl } }]).then((kept) => kept && onClose());
            }}
          />
        </label>
      )}
      {canEdit && place.acl && (
        <label className="field" style={{ marginTop: 10 }}>
          <span>Or keep these lines as a pattern, to begin other places with</span>
          <span className="row">
            <Input value={name} placeholder="Name of the pattern" maxLength={255} onChange={(event) => setName(event.target.value)} />
            <Button
              disabled={!name.trim()}
              onClick={() =>
                void add(name.trim(), (pattern) => [
                  { op: "put-pattern", pattern: { id: pattern, name: name.trim(), acl: place.acl!, note: "" } },
                ]).then((kept) => kept && onClose())
              }
            >
              Keep
            </Button>
          </span>
        </label>
      )}
    </Modal>
  );
}
