import { Select } from "antd";
import { useState } from "react";
import { usePlan } from "../plan/PlanContext";

/** The names and addresses by which clients reach the server. The first stands in the lines by which they connect. */
export function Addresses() {
  const { outline, canEdit, edit } = usePlan();
  const { addresses } = outline.target;
  const [changing, setChanging] = useState(false);
  if (changing)
    return (
      <Select
        autoFocus
        mode="tags"
        open={false}
        suffixIcon={null}
        size="small"
        style={{ width: "100%", marginBottom: 6 }}
        aria-label="Names and addresses of the server"
        placeholder={`${outline.name}.office.example, 192.0.2.10`}
        tokenSeparators={[",", " "]}
        defaultValue={addresses}
        onBlur={() => setChanging(false)}
        onChange={(now: string[]) =>
          void edit([{ op: "set-target", target: { ...outline.target, addresses: now.map((one) => one.trim()) } }])
        }
      />
    );
  return (
    <p className="muted" style={{ margin: "0 0 6px" }}>
      {addresses.length === 0
        ? `The server is called ${outline.name} here, as the plan is.`
        : addresses.length > 1
          ? `The server is reached as ${addresses[0]}, and as ${addresses.slice(1).join(", ")}.`
          : `The server is reached as ${addresses[0]}.`}{" "}
      {canEdit && (
        <button className="plain link" onClick={() => setChanging(true)}>
          {addresses.length === 0 ? "Say its name or address …" : "Change …"}
        </button>
      )}
    </p>
  );
}
