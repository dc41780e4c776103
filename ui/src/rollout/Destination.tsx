import { useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Input, InputNumber, Modal, Radio } from "antd";
import { useState, type ReactNode } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { usePlan } from "../plan/PlanContext";

type Where = Schemas["Destination"];
type Key = Schemas["HostKeyOut"];

/** Where a plan goes, in a few words. */
export function whereTo(where: Where): string {
  if (where.kind === "ssh") return where.host;
  return { papers: "files to carry out by hand", here: "this machine", "stand-in": "the stand-in appliance" }[where.kind];
}

/** Says where the plan goes: to an appliance that can be reached, whose key was compared, or to papers. */
export function DestinationDialog({ now, onClose }: { now: Where; onClose: () => void }) {
  const { id, outline } = usePlan();
  const client = useQueryClient();
  const [where, setWhere] = useState<Where>(now);
  const [keys, setKeys] = useState<Key[] | null>(null);
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const path = { params: { path: { plan: id } } };
  const change = (part: Partial<Where>) => {
    setWhere((old) => ({ ...old, ...part }));
    setTrouble("");
  };
  const elsewhere = (part: Partial<Where>) => {
    change({ ...part, key: "" });
    setKeys(null);
  };
  const choose = (kind: Where["kind"]) => {
    if (kind === "stand-in") elsewhere({ kind, host: "127.0.0.1", port: now.kind === "stand-in" ? now.port : 0, joined: [] });
    else if (where.kind === "stand-in") elsewhere({ kind, host: "", port: 22 });
    else change({ kind });
  };
  const attempt = async (act: () => Promise<void>) => {
    setBusy(true);
    setTrouble("");
    try {
      await act();
    } catch (error) {
      setTrouble(message(error));
    }
    setBusy(false);
  };
  const keep = () =>
    attempt(async () => {
      await ask(api.PUT("/api/v1/plans/{plan}/rollout/destination", { ...path, body: where }));
      await client.invalidateQueries({ queryKey: ["of-plan", id, "rollout"] });
      onClose();
    });
  const askKeys = () =>
    attempt(async () => {
      setKeys(
        await ask(
          api.POST("/api/v1/plans/{plan}/rollout/host-keys", { ...path, body: { host: where.host ?? "", port: where.port ?? 22 } }),
        ),
      );
    });
  const ready = where.kind !== "ssh" || Boolean(where.host && where.key);
  return (
    <Modal
      title="Where the plan goes"
      width={600}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText="Send it there from now on"
      cancelText="Cancel"
      confirmLoading={busy}
      okButtonProps={{ disabled: !ready }}
    >
      <Radio.Group className="choices" value={where.kind} onChange={(event) => choose(event.target.value as Where["kind"])}>
        <Radio value="papers">
          On paper: <span className="muted">a script or a runbook to take there; say here what was done</span>
        </Radio>
        <Radio value="ssh">
          To a Linux file server over SSH:{" "}
          <span className="muted">step by step from here, read back, verified, confirmed or rolled back</span>
        </Radio>
        <Radio value="here">
          To this machine: <span className="muted">the one that Yard Gate runs on, as root</span>
        </Radio>
        <Radio value="stand-in">
          To a simulated appliance:{" "}
          <span className="muted">one of this plan’s own on this machine, to try it all; nothing can be lost</span>
        </Radio>
      </Radio.Group>
      {where.kind === "ssh" && (
        <div className="fields">
          <div className="row">
            <Labelled label="Host">
              <Input
                value={where.host}
                placeholder="keelson.lanternquay.example"
                style={{ width: 230 }}
                onChange={(event) => elsewhere({ host: event.target.value.trim() })}
              />
            </Labelled>
            <Labelled label="Port">
              <InputNumber value={where.port} min={1} max={65535} onChange={(port) => elsewhere({ port: port ?? 22 })} />
            </Labelled>
            <Labelled label="Sign in as">
              <Input value={where.user} style={{ width: 120 }} onChange={(event) => change({ user: event.target.value.trim() })} />
            </Labelled>
          </div>
          <Checkbox checked={where.as_root} onChange={(event) => change({ as_root: event.target.checked })}>
            ask sudo for what needs root
          </Checkbox>
          <p className="muted">It signs in with the SSH keys, or the agent, of the account that Yard Gate runs as. No password is kept.</p>
          {!where.key && (
            <Button loading={busy} disabled={!where.host} onClick={() => void askKeys()}>
              Ask the host for its key
            </Button>
          )}
          {keys && !where.key && (
            <>
              <p>
                The host shows these keys. Compare one with what <code>ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub</code> says at the
                host itself:
              </p>
              {keys.map((key) => (
                <div key={key.line} className="row spread-row">
                  <code>
                    {key.line.split(" ")[0]} {key.fingerprint}
                  </code>
                  <Button size="small" onClick={() => change({ key: key.line })}>
                    It is the same
                  </Button>
                </div>
              ))}
            </>
          )}
          {where.key && (
            <p>
              Its key is confirmed: <code>{where.key.slice(0, 40)}…</code>. A host that shows another key is refused.{" "}
              <button className="plain link" onClick={() => elsewhere({})}>
                Compare again
              </button>
            </p>
          )}
        </div>
      )}
      {where.kind === "stand-in" && (
        <div className="fields">
          <Labelled label="Its port on this machine; leave it empty for one of its own">
            <InputNumber
              value={where.port || null}
              placeholder="its own"
              min={1}
              max={65535}
              onChange={(port) => change({ port: port ?? 0, host: "127.0.0.1" })}
            />
          </Labelled>
        </div>
      )}
      <div className="fields">
        <div className="row">
          <Labelled label="Pools lie in">
            <Input value={where.top} style={{ width: 160 }} onChange={(event) => change({ top: event.target.value.trim() })} />
          </Labelled>
          <Labelled label="Numbers it may give, from">
            <InputNumber value={where.lowest} min={1} max={2147483647} onChange={(lowest) => change({ lowest: lowest ?? 1000 })} />
          </Labelled>
          <Labelled label="to">
            <InputNumber value={where.highest} min={1} max={2147483647} onChange={(highest) => change({ highest: highest ?? 60000 })} />
          </Labelled>
        </div>
        <p className="muted">
          Whoever plans can touch nothing there but folders below this one, and accounts and groups that a rollout made or that you let be
          managed.
        </p>
      </div>
      {where.kind !== "stand-in" && outline.directories.length > 0 && (
        <div className="fields">
          {outline.directories.map((one) => (
            <Checkbox
              key={one.id}
              checked={where.joined?.includes(one.id)}
              onChange={(event) =>
                change({ joined: [...(where.joined ?? []).filter((other) => other !== one.id), ...(event.target.checked ? [one.id] : [])] })
              }
            >
              the host itself is joined to {one.name}
            </Checkbox>
          ))}
          <p className="muted">
            Then lists, shares and its own groups name the directory’s people and groups. It finds them by winbind, as{" "}
            {outline.directories[0]!.name}\name.
          </p>
        </div>
      )}
      {trouble && <div className="trouble">{trouble}</div>}
    </Modal>
  );
}

function Labelled({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="field">
      <span>{label}</span>
      {children}
    </label>
  );
}
