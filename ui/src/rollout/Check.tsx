import { Button, Input, Select } from "antd";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";

type Found = Schemas["HostCheckOut"];
const MARK = { well: ["✓", "in order"], amiss: ["✗", "amiss"], unknown: ["?", "not known"] } as const;
const ABOUT: Record<Schemas["HostCheckLine"]["about"], string> = {
  plan: "The plan",
  server: "Server",
  account: "Account",
  password: "Password",
  groups: "Groups",
  session: "Session",
  share: "Share",
  host: "Computer",
  folder: "Way there",
  thing: "List",
  "file system": "File system",
  client: "Their computer",
};

/** Why somebody does not get in: looked up on the appliance in the order in which things fail; the first that is amiss is the cause. */
export function Check({ rollout, onClose }: { rollout: RolloutOut; onClose: () => void }) {
  const { id, outline } = usePlan();
  const [params] = useSearchParams();
  const [user, setUser] = useState(params.get("check") || undefined);
  const [share, setShare] = useState(params.get("share") ?? undefined);
  const [protocol, setProtocol] = useState<"smb" | "nfs">(params.get("over") === "nfs" ? "nfs" : "smb");
  const [path, setPath] = useState(params.get("path") ?? "");
  const [machine, setMachine] = useState("");
  const [password, setPassword] = useState("");
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const [found, setFound] = useState<Found | null>(null);
  const host = whereTo(rollout.destination);
  const shares = outline.shares.filter((one) => (protocol === "smb" ? one.smb : one.nfs));
  const look = async (event?: FormEvent) => {
    event?.preventDefault();
    if (!user || !share) return;
    setBusy(true);
    setTrouble("");
    setFound(null);
    try {
      const body = {
        user,
        share,
        protocol,
        path,
        machine: protocol === "nfs" ? machine : "",
        password: protocol === "smb" ? password : "",
      };
      setFound(await ask(api.POST("/api/v1/plans/{plan}/rollout/check", { params: { path: { plan: id } }, body })));
    } catch (problem) {
      setTrouble(message(problem));
    }
    setBusy(false);
  };
  return (
    <div className="work">
      <div className="tools">
        <b>Why does somebody not get in at {host}?</b>
        <span className="spread" />
        <Button size="small" onClick={onClose}>
          Back to the steps
        </Button>
      </div>
      <div className="sentences">
        <form className="checking" onSubmit={(event) => void look(event)}>
          <label className="field">
            <span>Who</span>
            <Select
              aria-label="Who"
              showSearch={{ optionFilterProp: "label" }}
              value={user}
              onChange={setUser}
              options={outline.users
                .map((one) => ({ value: one.id, label: shownName(one) }))
                .sort((a, b) => a.label.localeCompare(b.label))}
            />
          </label>
          <label className="field">
            <span>Over</span>
            <Select
              aria-label="Over"
              value={protocol}
              onChange={setProtocol}
              options={[
                { value: "smb", label: "SMB" },
                { value: "nfs", label: "NFS" },
              ]}
            />
          </label>
          <label className="field">
            <span>Share</span>
            <Select
              aria-label="Share"
              showSearch={{ optionFilterProp: "label" }}
              value={share}
              onChange={setShare}
              options={shares.map((one) => ({ value: one.id, label: one.name }))}
            />
          </label>
          <label className="field">
            <span>Folder or file in it (optional)</span>
            <Input value={path} onChange={(event) => setPath(event.target.value)} placeholder="2026/draft 2.txt" />
          </label>
          {protocol === "nfs" ? (
            <label className="field">
              <span>Address of their computer</span>
              <Input value={machine} onChange={(event) => setMachine(event.target.value)} placeholder="192.0.2.41" />
            </label>
          ) : (
            <label className="field">
              <span>Their password, to try it (optional)</span>
              <Input.Password autoComplete="off" value={password} onChange={(event) => setPassword(event.target.value)} />
            </label>
          )}
          <Button type="primary" htmlType="submit" loading={busy} disabled={!user || !share}>
            Look it up there
          </Button>
        </form>
        {trouble && <div className="trouble">{trouble}</div>}
        {busy && <p role="status">Asking {host} …</p>}
        {!found && !busy && !trouble && (
          <p className="muted">
            Looks at everything between them and the file, in the order in which it fails: server, account, password, groups, session,
            share, folders on the way, the list itself, the file system. Nothing is changed.
          </p>
        )}
        {found && <Result found={found} />}
      </div>
    </div>
  );
}

function Result({ found }: { found: Found }) {
  const first = found.cause === null ? null : found.checks[found.cause]!;
  return (
    <>
      <div className={`verdict wide ${first ? "bad" : "good"}`} role="status">
        <div className="verdict-title">{first ? first.words : "On the appliance, everything lets them in"}</div>
        {first ? (
          first.act && <div>{first.act}</div>
        ) : (
          <div>
            Planned: <LevelTag level={found.level} long />. What is left is their own computer; see the last line.
          </div>
        )}
      </div>
      <ol className="line">
        {found.checks.map((check, number) => (
          <li key={number} className={`stop ${{ well: "done", amiss: "failed", unknown: "to-do" }[check.state]}`}>
            <span className="dot" aria-hidden>
              {MARK[check.state][0]}
            </span>
            <span>
              <b>{ABOUT[check.about]}</b> {check.words}
              {check.act && number !== found.cause && <span className="muted"> {check.act}</span>}
            </span>
            <span className={check.state === "amiss" ? "late" : "muted"}>
              {number === found.cause ? "the cause" : MARK[check.state][1]}
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}
