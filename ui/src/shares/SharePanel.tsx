import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Input, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, message, type Edit, type Level, type Share, type WayOut } from "../api/client";
import { Gates } from "../board/Gates";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { useAskFirst } from "../parts/AskFirst";
import { CopyDialog } from "../parts/CopyDialog";
import { Field } from "../parts/Field";
import { RemoveDialog } from "../parts/RemoveDialog";
import { hostPath, pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { notEmpty } from "../people/PersonPanel";
import { useWhos } from "../storage/editors";
import { OpenToAll } from "./OpenToAll";
import { Acting, type Put } from "./Acting";
import { Addresses } from "./Addresses";
import { OwnList } from "./OwnList";
import { connections, GIVEN, PROTOCOLS, reachedAs } from "./words";

const GUEST = [{ value: "guest", label: "A guest, without an account" }];
const NAMED = 8;

/** One share: who gets in and why, what it says, and how clients connect. */
export function SharePanel({ share, ways }: { share: Share; ways: WayOut[] | undefined }) {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [removing, setRemoving] = useState(false);
  const [copying, setCopying] = useState(false);
  const first = useAskFirst();
  const changed = (change: Partial<Share>): Edit[] => [{ op: "put-share", share: { ...share, ...change } }];
  const put = (change: Partial<Share>) => first.put(`Change how ${share.name} is shared?`, "Change it", changed(change));
  const [opening, setOpening] = useState(false);
  const check = (key: "smb" | "nfs" | "read_only" | "hidden" | "hide_unreadable" | "versions" | "recycle" | "of_host", words: string) => (
    <Checkbox checked={share[key] ?? false} disabled={!canEdit} onChange={(event) => void put({ [key]: event.target.checked })}>
      {words}
    </Checkbox>
  );
  return (
    <>
      <h2>{share.name}</h2>
      <div className="muted" style={{ marginBottom: 8 }}>
        offers <Link to={`/p/${id}/storage?place=${encodeURIComponent(share.place)}`}>{pathName(index, share.place)}</Link> ·{" "}
        <Link to={`?share=${encodeURIComponent(share.id)}&history=${encodeURIComponent(share.id)}`}>History</Link>
      </div>
      {ways?.map((way) => (
        <Who key={way.protocol} way={way} several={ways.length > 1} />
      ))}
      <Try share={share} />
      <h3>What it says</h3>
      <Field
        label="Name that clients see"
        named={{ kind: "share", itself: share.id }}
        value={share.name}
        disabled={!canEdit}
        check={notEmpty}
        onKeep={(name) => void edit(changed({ name }))}
      />
      <div>
        {PROTOCOLS.map(([protocol, name]) => (
          <span key={protocol}>{check(protocol, `over ${name}`)}</span>
        ))}
      </div>
      <div>{check("read_only", "read-only, whatever is granted")}</div>
      {share.smb && (
        <>
          <div>{check("hidden", "not listed among the shares")}</div>
          <div>{check("hide_unreadable", "hides what one cannot read")}</div>
          <div>{check("versions", "shows earlier versions")}</div>
          {share.versions && (
            <p className="muted advice">
              Each has the list that it had then: who could read a file before it was closed to them still reads its earlier versions.
            </p>
          )}
          <div style={{ marginBottom: 8 }}>{check("recycle", "keeps what is deleted")}</div>
          {share.recycle && (
            <p className="muted advice">
              In a folder for each person, at the top of the share; it counts towards quotas until somebody empties it, and keeps nothing of
              what is deleted over NFS or overwritten.
            </p>
          )}
          <label className="field">
            <span>Guests, over SMB</span>
            <Select
              aria-label="Guests"
              disabled={!canEdit}
              value={share.guests}
              style={{ width: "100%" }}
              onChange={(guests: Level) => void put({ guests })}
              options={GIVEN.map((level) => ({ value: level, label: level === "NA" ? "are not let in" : `are let in: ${WORDS[level]}` }))}
            />
          </label>
          {canEdit && (
            <p style={{ margin: "-2px 0 8px" }}>
              <button className="plain link" aria-haspopup="dialog" onClick={() => setOpening(true)}>
                {share.guests === "NA" ? "Open to everybody, guests too …" : "Open to everybody: change or close …"}
              </button>
            </p>
          )}
          <Acting share={share} put={put} />
        </>
      )}
      {share.smb && <OwnList share={share} put={put} />}
      {share.nfs && <Hosts share={share} put={put} />}
      {share.of_host && (
        <div className="from">
          The server’s own configuration offers it, and rollouts leave it as it is. What you change here is not done there.
          <br />
          {check("of_host", "leave it to the server’s own configuration")}
        </div>
      )}
      <Field label="Note" area value={share.note ?? ""} disabled={!canEdit} onKeep={(note) => void edit(changed({ note }))} />
      <h3>How clients connect</h3>
      <Addresses />
      {connections(share, reachedAs(outline), hostPath(index, outline.top, share.place)).map(([system, line]) => (
        <div key={system} className="connect">
          <span className="muted">{system}</span>
          <code>{line}</code>
        </div>
      ))}
      {canEdit && (
        <p className="row" style={{ marginTop: 12 }}>
          <Button size="small" onClick={() => setCopying(true)}>
            Another like it …
          </Button>
          <Button danger size="small" onClick={() => setRemoving(true)}>
            Stop sharing …
          </Button>
        </p>
      )}
      {first.dialog}
      {opening && <OpenToAll share={share} onClose={() => setOpening(false)} />}
      {copying && (
        <CopyDialog
          kind="share"
          like={share.id}
          name={share.name}
          words={`Offers ${pathName(index, share.place)} in the same way, under another name.`}
          onClose={() => setCopying(false)}
        />
      )}
      {removing && (
        <RemoveDialog
          name={share.name}
          words={[`Stop sharing ${share.name}`, "Stop sharing"]}
          edit={{ op: "remove-share", share: share.id }}
          onClose={() => setRemoving(false)}
        />
      )}
    </>
  );
}

function Who({ way, several }: { way: WayOut; several: boolean }) {
  const { index } = usePlan();
  if (!way.on) return <p className="late">{way.protocol.toUpperCase()} is switched off: nobody gets in over it.</p>;
  return (
    <>
      {several && <h3>Over {way.protocol.toUpperCase()}</h3>}
      {(["RW", "RO", "PT"] as Level[])
        .filter((level) => way.counts[level])
        .map((level) => {
          const names = (way.people[level] ?? []).map((who) => whoName(index, who)).sort((a, b) => a.localeCompare(b));
          const rest = (way.counts[level] ?? 0) - Math.min(names.length, NAMED);
          return (
            <p key={level} className="who-gets" title={names.join(", ")}>
              <LevelTag level={level} /> {names.slice(0, NAMED).join(", ")}
              {rest > 0 && ` and ${rest.toLocaleString()} more`}
            </p>
          );
        })}
      {!way.counts.RW && !way.counts.RO && !way.counts.PT && <p className="late">Nobody gets in.</p>}
    </>
  );
}

/** Why somebody gets in, or not. */
function Try({ share }: { share: Share }) {
  const { id, index } = usePlan();
  const whos = useWhos(GUEST);
  const [who, setWho] = useState<string>();
  const [protocol, setProtocol] = useState<"smb" | "nfs">(share.smb ? "smb" : "nfs");
  const [host, setHost] = useState("");
  const [asked, setAsked] = useState("");
  const over = share.smb && share.nfs ? protocol : share.smb ? "smb" : "nfs";
  const from = over === "nfs" && asked ? asked : undefined;
  const found = useQuery({
    queryKey: ["of-plan", id, "share-reason", share.id, who, over, from],
    enabled: who !== undefined,
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/shares/reason", {
          params: { path: { plan: id }, query: { share: share.id, subject: who!, place: share.place, protocol: over, host: from } },
        }),
      ),
  });
  return (
    <>
      <h3>Why does somebody get in, or not?</h3>
      <div className="row">
        <Select
          aria-label="Whom to ask about"
          showSearch={{ optionFilterProp: "label" }}
          style={{ flex: 1 }}
          placeholder="Choose somebody"
          value={who}
          onChange={setWho}
          options={whos}
        />
        {share.smb && share.nfs && (
          <Select
            aria-label="Over which protocol"
            style={{ width: 80 }}
            value={protocol}
            onChange={setProtocol}
            options={PROTOCOLS.map(([value, label]) => ({ value, label }))}
          />
        )}
        {over === "nfs" && (
          <Input
            aria-label="From which address"
            style={{ width: 130 }}
            placeholder="from any host"
            value={host}
            onChange={(event) => setHost(event.target.value)}
            onPressEnter={() => setAsked(host.trim())}
            onBlur={() => setAsked(host.trim())}
          />
        )}
      </div>
      {found.isError && <div className="trouble">{message(found.error)}</div>}
      {found.data && (
        <>
          <p style={{ margin: "8px 0" }}>
            <LevelTag level={found.data.reason.level} long /> {who === "guest" ? "A guest" : whoName(index, who!)} over {over.toUpperCase()}
          </p>
          <Gates reason={found.data.reason} top={share.place} />
        </>
      )}
    </>
  );
}

function Hosts({ share, put }: { share: Share; put: Put }) {
  const { canEdit } = usePlan();
  const [fresh, setFresh] = useState("");
  const rules = share.hosts ?? [];
  const add = async () => {
    if (fresh.trim() && (await put({ hosts: [...rules, { hosts: fresh.trim(), level: "RO" }] }))) setFresh("");
  };
  return (
    <>
      <h3>Hosts that may mount it over NFS</h3>
      {rules.map((rule, number) => (
        <div key={number} className="row host">
          <code>{rule.hosts}</code>
          <span className="spread" />
          <Select
            size="small"
            aria-label={`What ${rule.hosts} gets`}
            disabled={!canEdit}
            value={rule.level}
            style={{ width: 120 }}
            options={GIVEN.map((level) => ({ value: level, label: WORDS[level] }))}
            onChange={(level: Level) => void put({ hosts: rules.map((one, at) => (at === number ? { ...one, level } : one)) })}
          />
          {canEdit && (
            <button
              className="plain"
              aria-label={`Remove ${rule.hosts}`}
              title="Remove"
              onClick={() => void put({ hosts: rules.filter((_, at) => at !== number) })}
            >
              ✕
            </button>
          )}
        </div>
      ))}
      {rules.length === 0 && <p className="late">No host may mount it.</p>}
      {canEdit && (
        <form
          className="row"
          style={{ marginBottom: 10 }}
          onSubmit={(event) => {
            event.preventDefault();
            void add();
          }}
        >
          <Input
            size="small"
            aria-label="Another host"
            placeholder="192.0.2.41, 192.0.2.0/24, bench.example"
            value={fresh}
            onChange={(event) => setFresh(event.target.value)}
          />
          <Button size="small" htmlType="submit" disabled={!fresh.trim()}>
            Add
          </Button>
        </form>
      )}
      <label className="field">
        <span>Numeric ids that clients claim</span>
        <Select
          aria-label="Squash"
          disabled={!canEdit}
          value={share.squash}
          style={{ width: "100%" }}
          onChange={(squash: Share["squash"]) => void put({ squash })}
          options={[
            { value: "root", label: "root becomes the guest" },
            { value: "all", label: "everybody becomes the guest" },
            { value: "none", label: "all are believed, root too" },
          ]}
        />
      </label>
    </>
  );
}
