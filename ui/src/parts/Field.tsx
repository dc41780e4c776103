import { Input } from "antd";
import { useEffect, useRef, useState } from "react";

/** A text edited in place: kept on Enter or when left, put back by Escape. */
export function Field({
  label,
  value,
  onKeep,
  disabled,
  area,
  check,
  placeholder,
}: {
  label: string;
  value: string;
  onKeep: (value: string) => void;
  disabled?: boolean;
  area?: boolean;
  check?: (value: string) => string | null;
  placeholder?: string;
}) {
  const [text, setText] = useState(value);
  const kept = useRef(value);
  useEffect(() => {
    if (kept.current !== value) {
      kept.current = value;
      setText(value);
    }
  }, [value]);
  const trouble = text === value ? null : (check?.(text.trim()) ?? null);
  const keep = () => {
    if (text.trim() !== value && !trouble) onKeep(text.trim());
  };
  const common = {
    value: text,
    disabled,
    placeholder,
    onBlur: keep,
    status: trouble ? ("error" as const) : undefined,
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
      {trouble && <span style={{ color: "var(--attention)" }}>{trouble}</span>}
    </label>
  );
}
