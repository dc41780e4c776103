import { Input, Select } from "antd";
import { useState } from "react";
import type { Place } from "../api/client";
import { sizeOf, sizeWords } from "../parts/size";
import { whoLabel } from "./editors";
import { usePlan } from "../plan/PlanContext";

/** A number of bytes, written as people do; kept when one leaves it. */
export function Size({
  label,
  size,
  placeholder,
  disabled,
  onKeep,
}: {
  label: string;
  size: number | null;
  placeholder: string;
  disabled: boolean;
  onKeep: (size: number | null) => void;
}) {
  const shown = size ? sizeWords(size) : "";
  const [text, setText] = useState(shown);
  const [known, setKnown] = useState(size);
  if (known !== size) {
    setKnown(size);
    setText(shown);
  }
  const said = sizeOf(text);
  const keep = () => {
    if (said !== undefined && said !== size && text !== shown) onKeep(said);
  };
  return (
    <Input
      size="small"
      aria-label={label}
      style={{ width: 86 }}
      disabled={disabled}
      placeholder={placeholder}
      status={said === undefined ? "error" : undefined}
      title={said === undefined ? "A size, such as 500 GiB or 2 TiB" : undefined}
      value={text}
      onChange={(event) => setText(event.target.value)}
      onBlur={keep}
      onPressEnter={keep}
    />
  );
}

/** The most that groups may take in a place. */
export function GroupQuotas({ place, made, put }: { place: Place; made: boolean; put: (change: Partial<Place>) => void }) {
  const { index, canEdit } = usePlan();
  const quotas = place.group_quotas;
  const free = index.groupsByName.filter((group) => !quotas.some((quota) => quota.group === group.id));
  if (quotas.length === 0 && (!canEdit || free.length === 0)) return null;
  const keep = (group: string, size: number | null) =>
    put({
      group_quotas:
        size === null
          ? quotas.filter((quota) => quota.group !== group)
          : quotas.map((quota) => (quota.group === group ? { group, bytes: size } : quota)),
    });
  return (
    <div className="quotas">
      <h4>
        The most that groups may take here{" "}
        {quotas.length > 0 && !made && <span className="late">not made there: only ZFS has quotas of groups</span>}
      </h4>
      {quotas.map((quota) => (
        <div key={quota.group} className="row">
          <span className="spread">{whoLabel(index, quota.group)}</span>
          <Size
            label={`Quota of ${whoLabel(index, quota.group)}`}
            size={quota.bytes}
            placeholder="none"
            disabled={!canEdit}
            onKeep={(size) => keep(quota.group, size)}
          />
          {canEdit && (
            <button
              className="plain"
              aria-label={`Remove the quota of ${whoLabel(index, quota.group)}`}
              title="Remove"
              onClick={() => keep(quota.group, null)}
            >
              ✕
            </button>
          )}
        </div>
      ))}
      {canEdit && free.length > 0 && (
        <Select
          size="small"
          aria-label="A quota for a group"
          showSearch={{ optionFilterProp: "label" }}
          style={{ width: 230 }}
          value={null}
          placeholder="A quota for a group …"
          options={free.map((group) => ({ value: group.id, label: whoLabel(index, group.id) }))}
          onChange={(group: string | null) => {
            if (group) put({ group_quotas: [...quotas, { group, bytes: 100 * 2 ** 30 }] });
          }}
        />
      )}
    </div>
  );
}
