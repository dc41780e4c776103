import { useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Drawer, Input, Select } from "antd";
import { useState } from "react";
import { Menu } from "../parts/Menu";
import { api, ask, message, type Schemas } from "../api/client";
import { plural } from "../parts/plural";

type Account = Schemas["AccountOut"];
type Role = Account["role"];
type PlanRole = "planner" | "reader";
const ROLES: { value: Role; label: string }[] = [
  { value: "administrator", label: "administrator: everything, also who signs in and where plans go" },
  { value: "planner", label: "planner: may change all plans" },
  { value: "reader", label: "reader: may look at all plans" },
  { value: "member", label: "member: single plans only, chosen below the name" },
];

/** Who may sign in to Yard Gate itself, what they may do, and where they are signed in. */
export default function Accounts({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const { message: toast } = App.useApp();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: () => ask(api.GET("/api/v1/accounts")) });
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => ask(api.GET("/api/v1/plans")) });
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("planner");
  const [link, setLink] = useState<{ name: string; link: string } | null>(null);
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
  const told = (made: Schemas["NewAccountOut"]) => setLink({ name: made.account.name, link: `${window.location.origin}${made.link}` });
  const add = () =>
    act(async () => {
      told(await ask(api.POST("/api/v1/accounts", { body: { name: name.trim(), role } })));
      setName("");
    });
  const change = (id: string, body: Schemas["ChangeAccount"]) =>
    act(() => ask(api.PATCH("/api/v1/accounts/{account}", { params: { path: { account: id } }, body })));
  const path = (id: string) => ({ params: { path: { account: id } } });
  return (
    <Drawer title="Who may sign in to Yard Gate" open onClose={onClose} size={720}>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      {accounts.isError && <div className="trouble">{message(accounts.error)}</div>}
      <table className="list">
        <thead>
          <tr>
            <th>Name</th>
            <th>Role</th>
            <th>Account</th>
            <th>Signed in</th>
            <th>
              <span className="sr">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {accounts.data?.map((account) => (
            <tr key={account.id}>
              <td>
                {account.name}
                {account.role === "member" && (
                  <Select
                    mode="multiple"
                    optionFilterProp="label"
                    size="small"
                    aria-label={`Plans of ${account.name}`}
                    placeholder="no plan yet"
                    style={{ display: "block", width: 230, marginTop: 4 }}
                    maxTagCount={2}
                    value={Object.entries(account.plans).map(([plan, may]) => `${may} ${plan}`)}
                    onChange={(chosen) =>
                      void change(account.id, {
                        plans: Object.fromEntries(
                          chosen.map((one) => one.split(" ") as [PlanRole, string]).map(([may, plan]) => [plan, may]),
                        ),
                      })
                    }
                    options={(plans.data ?? []).flatMap((plan) =>
                      (["planner", "reader"] as const).map((may) => ({
                        value: `${may} ${plan.id}`,
                        label: `${may === "planner" ? "changes" : "reads"} ${plan.name}`,
                      })),
                    )}
                  />
                )}
              </td>
              <td>
                <Select
                  size="small"
                  aria-label={`Role of ${account.name}`}
                  value={account.role}
                  style={{ width: 130 }}
                  popupMatchSelectWidth={false}
                  optionLabelProp="value"
                  onChange={(next) => void change(account.id, { role: next })}
                  options={ROLES}
                />
              </td>
              <td className={account.disabled ? "late" : "muted"}>
                {account.disabled ? "disabled" : account.has_password ? "active" : "no password yet"}
              </td>
              <td className="muted">{account.sessions === 0 ? "nowhere" : plural(account.sessions, "browser")}</td>
              <td>
                <Menu
                  items={[
                    { key: "link", label: "New link to sign in", disabled: account.disabled },
                    { key: "out", label: "Sign out everywhere", disabled: account.sessions === 0 },
                    { key: "shut", label: account.disabled ? "Enable the account" : "Disable the account" },
                  ]}
                  onChoose={(key) =>
                    void (key === "link"
                      ? act(async () => told(await ask(api.POST("/api/v1/accounts/{account}/link", path(account.id)))))
                      : key === "out"
                        ? act(async () => {
                            await ask(api.DELETE("/api/v1/accounts/{account}/sessions", path(account.id)));
                            toast.success(`${account.name} is signed out everywhere.`);
                          })
                        : change(account.id, { disabled: !account.disabled }))
                  }
                >
                  <Button size="small" aria-label={`More about ${account.name}`}>
                    …
                  </Button>
                </Menu>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {link && (
        <p role="status">
          Hand this link to {link.name}. It signs in once, within a day; then they set their password.
          <br />
          <code style={{ overflowWrap: "anywhere" }}>{link.link}</code>
        </p>
      )}
      <h3 className="part">Add an account</h3>
      <div className="row">
        <Input
          placeholder="Name"
          aria-label="Name"
          value={name}
          maxLength={255}
          onChange={(event) => setName(event.target.value)}
          onPressEnter={() => {
            if (name.trim()) void add();
          }}
        />
        <Select
          aria-label="Role"
          value={role}
          style={{ width: 150 }}
          popupMatchSelectWidth={false}
          optionLabelProp="value"
          onChange={setRole}
          options={ROLES}
        />
        <Button type="primary" disabled={!name.trim()} onClick={() => void add()}>
          Add
        </Button>
      </div>
    </Drawer>
  );
}
