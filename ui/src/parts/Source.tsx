import { Button, Input } from "antd";
import { useState } from "react";

export const toBase64 = (bytes: Uint8Array) => {
  let text = "";
  for (let at = 0; at < bytes.length; at += 8192) text += String.fromCharCode(...bytes.subarray(at, at + 8192));
  return btoa(text);
};

/** One text to take in: chosen as a file (its bytes as they are), or pasted. */
export function Source({
  label,
  value,
  onChange,
}: {
  label: string;
  value: Uint8Array | null;
  onChange: (bytes: Uint8Array | null) => void;
}) {
  const [file, setFile] = useState("");
  const [text, setText] = useState("");
  return (
    <label className="field">
      <span>{label}</span>
      <Input.TextArea
        rows={4}
        placeholder="Paste it here, or choose a file"
        spellCheck={false}
        value={file ? `${file}, ${value?.length.toLocaleString()} bytes` : text}
        disabled={file !== ""}
        onChange={(event) => {
          setText(event.target.value);
          onChange(event.target.value ? new TextEncoder().encode(event.target.value) : null);
        }}
        style={{ fontFamily: "var(--mono)", fontSize: 12 }}
      />
      <div className="row" style={{ marginTop: 4 }}>
        <input
          type="file"
          className="file"
          aria-label={`${label}: file`}
          onChange={(event) => {
            const chosen = event.target.files?.[0];
            if (chosen)
              void chosen.arrayBuffer().then((buffer) => {
                setFile(chosen.name);
                onChange(new Uint8Array(buffer));
              });
          }}
        />
        {file && (
          <Button
            size="small"
            onClick={() => {
              setFile("");
              setText("");
              onChange(null);
            }}
          >
            Choose another file
          </Button>
        )}
      </div>
    </label>
  );
}
