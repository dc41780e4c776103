import { Input } from "antd";
import { useEffect, useRef, useState } from "react";
import { NameHint, useNameSays, type NamedKind } from "./NameHint";

/** A text edited in place: kept on Enter or when left, put back by Escape. */
export function Field({
  label,
  value,
  onKeep,
  disabled,
  area,
  check,
  placeholder,
  named,
}: {
  label: string;
  value: string;
  onKeep: (value: string) => void;
  disabled?: boolean;
  area?: boolean;
  check?: (value: string) => string | null;
  placeholder?: string;
  /** It is the name of something: what any protocol or host will refuse is said here, with one that works. */
  named?: { kind: NamedKind; itself: string; parent?: string };
}) {
  const [text, setText] = useState(value);
  const kept = useRef(value);
  useEffect(() => {
    if (kept.current !== value) {
      kept.current = value;
      setText(value);
    }
  }, [value]);
  const says = useNameSays(named?.kind ?? "group", text, {
    itself: named?.itself,
    parent: named?.parent,
    wanted: named !== undefined && text !== value,
  });
  const refused = named !== undefined && text.trim() !== value && Boolean(says?.trouble);
  const trouble = text === value ? null : (check?.(text.trim()) ?? (refused ? "" : null));
  const keep = () => {
    if (text.trim() !== value && trouble === null) onKeep(text.trim());
  };
  const common = {
    value: text,
    disabled,
    placeholder,
    onBlur: keep,
    status: trouble !== null ? ("error" as const) : undefined,
    onChange: (event: { target: { value: string } }) => setText(event.target.value),
  };
  return (
    <label className="field">
      <span>{label}</span>
      {area ? (
        <Input.TextArea {...common} autoSize={{ minRows: 1, maxRows: 6 }} maxLength={4000} />
      ) : (
        <Input {...common} onPressEnter={keep} onKeyDown={(event) => event.key === "Escape" && setText(value)} />
      )}
      {refused && <NameHint says={says} name={text} onTake={setText} />}
      {trouble && <span style={{ color: "var(--attention)" }}>{trouble}</span>}
    </label>
  );
}
