import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Drawer, Input, Select } from "antd";
import { useState } from "react";
import { api, ask, message } from "../api/client";

type Role = "administrator" | "planner" | "reader";
const ROLES = [{ value: "administrator", label: "administrator: may also say who signs in" }, { value: "planner", label: "planner: may change plans" }, { value: "reader", label: "reader: may look" }];

/** Who may sign in to Yard Gate itself. */
export default function Accounts({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: () => ask(api.GET("/api/v1/accounts")) });
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("planner");
  const [link, setLink] = useState("");
  const [trouble, setTrouble] = useState("");
  const act = async (work: () => Promise<unknown>) => {
    setTrouble("");
    try {
      await work();
      await client.invalidateQueries({ queryKey: ["accounts"] });
    } catch (error) {
      setTrouble(message(error));
    }
  };
  const add = () => act(async () => {
    const made = await ask(api.POST("/api/v1/accounts", { body: { name: name.trim(), role } }));
    setLink(`${window.location.origin}${made.link}`);
    setName("");
  });
  const change = (id: string, body: { role?: Role; disabled?: boolean }) => act(() => ask(api.PATCH("/api/v1/accounts/{account}", { params: { path: { account: id } }, body })));
  return (
    <Drawer title="Who may sign in to Yard Gate" open onClose={onClose} size={560}>
      {trouble && <div className="trouble" role="alert">{trouble}</div>}
      {accounts.isError && <div className="trouble">{message(accounts.error)}</div>}
      <table className="list">
        <thead><tr><th>Name</th><th>Role</th><th>State</th><th /></tr></thead>
        <tbody>
          {accounts.data?.map((account) => (
            <tr key={account.id}>
              <td>{account.name}</td>
              <td><Select size="small" aria-label={`Role of ${account.name}`} value={account.role} style={{ width: 140 }} popupMatchSelectWidth={false} optionLabelProp="value" onChange={(next) => void change(account.id, { role: next as Role })} options={ROLES} /></td>
              <td className="muted">{account.disabled ? "shut" : account.has_password ? "open" : "no password yet"}</td>
              <td><Button size="small" onClick={() => void change(account.id, { disabled: !account.disabled })}>{account.disabled ? "Open" : "Shut"}</Button></td>
            </tr>
          ))}
        </tbody>
      </table>
      <h3 style={{ margin: "20px 0 6px", fontSize: 13 }}>Add somebody</h3>
      <div className="row">
        <Input placeholder="Name" aria-label="Name" value={name} maxLength={255} onChange={(event) => setName(event.target.value)} />
        <Select aria-label="Role" value={role} style={{ width: 150 }} popupMatchSelectWidth={false} optionLabelProp="value" onChange={(next) => setRole(next as Role)} options={ROLES} />
        <Button type="primary" disabled={!name.trim()} onClick={() => void add()}>Add</Button>
      </div>
      {link && <p>Hand this link over. It signs in once, within a day; then they set their password.<br /><code style={{ overflowWrap: "anywhere" }}>{link}</code></p>}
    </Drawer>
  );
}
