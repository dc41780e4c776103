import { Checkbox, Input } from "antd";
import { useState } from "react";

export interface Choice {
  value: string;
  label: string;
  disabled?: boolean;
}

const FEW = 8; // and no field to find one

/** Some of many, to be ticked: nothing opens over what stands below, and one click is enough. Enter in the field ticks the first that is found. */
export function Pick({
  label,
  choices,
  value,
  onChange,
}: {
  label: string;
  choices: Choice[];
  value: string[];
  onChange: (next: string[]) => void;
}) {
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase();
  const found = choices.filter((one) => one.label.toLowerCase().includes(wanted));
  const turn = (one: string) => onChange(value.includes(one) ? value.filter((other) => other !== one) : [...value, one]);
  return (
    <div role="group" aria-label={label} className="pick">
      <div className="row">
        <span className="muted">{label}</span>
        <span className="spread" />
        {choices.length > FEW && (
          <Input
            size="small"
            allowClear
            style={{ width: 170 }}
            placeholder="Find …"
            aria-label={`Find in ${label}`}
            value={text}
            onChange={(event) => setText(event.target.value)}
            onKeyDown={(event) => {
              if (event.key !== "Enter" || !wanted) return;
              event.preventDefault();
              const first = found.find((one) => !one.disabled);
              if (first) turn(first.value);
              setText("");
            }}
          />
        )}
      </div>
      <div
        className="pick-list"
        tabIndex={found.length > FEW ? 0 : undefined}
        aria-label={found.length > FEW ? label : undefined}
        role={found.length > FEW ? "region" : undefined}
      >
        {found.map((one) => (
          <Checkbox key={one.value} checked={value.includes(one.value)} disabled={one.disabled} onChange={() => turn(one.value)}>
            {one.label}
          </Checkbox>
        ))}
        {found.length === 0 && (
          <span className="muted">{choices.length === 0 ? "There are none yet." : `None has “${text}” in its name.`}</span>
        )}
      </div>
    </div>
  );
}
