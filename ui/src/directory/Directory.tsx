import { useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, message, type DirectoryOut } from "../api/client";
import { RemoveDialog } from "../parts/RemoveDialog";
import { Side } from "../parts/Side";
import { plural } from "../parts/plural";
import { Ago } from "../parts/Ago";
import { when } from "../parts/time";
import { calledName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useDirectories } from "../plan/queries";
import { Join } from "./Join";
import { Numbers } from "./Numbers";
import { Reading } from "./Reading";
import { NUMBERING, SCHEMAS } from "./words";

/** Joined directories: from when the copy in the plan is, what reading it again would change, what is wrong with its accounts. */
export default function Directories() {
  const { id, outline, canEdit } = usePlan();
  const [joining, setJoining] = useState(false);
  const [begun, setBegun] = useState<string | null>(null);
  const found = useDirectories();
  const joined = found.data ?? [];
  const fresh = begun && !joined.some((one) => one.directory.id === begun) ? begun : null;
  return (
    <>
      <div className="work scrolling">
        <div className="tools">
          <Link to={`/p/${id}/people`}>← People</Link>
          <b>Directories</b>
          <span className="spread" />
          {canEdit && (
            <Button size="small" onClick={() => setJoining(true)}>
              Join a directory …
            </Button>
          )}
        </div>
        {found.isError && <div className="trouble">{message(found.error)}</div>}
        {outline.directories.length > 0 && !found.data && !found.isError && (
          <div className="loading" role="status">
            Loading directories …
          </div>
        )}
        {fresh && (
          <section className="directory">
            <Reading directory={fresh} name={fresh} onDone={() => setBegun(null)} />
          </section>
        )}
        {joined.map((one) => (
          <One key={one.directory.id} one={one} onBegun={setBegun} />
        ))}
        {outline.directories.length === 0 && !fresh && (
          <div className="empty">
            <h2>No directory is joined</h2>
            <p className="muted">
              An office with a domain has its people and groups there already. Join it, or take a copy of it from an LDIF file; they come in
              beside the appliance's own accounts.
            </p>
            {canEdit && (
              <Button type="primary" onClick={() => setJoining(true)}>
                Join a directory …
              </Button>
            )}
          </div>
        )}
      </div>
      <Side label="Details">
        {joined.length > 0 ? (
          joined.map((one) => <Settings key={one.directory.id} one={one} onBegun={setBegun} />)
        ) : (
          <p className="muted">
            Accounts of a directory are followed by their SID or entryUUID: a new name there keeps what was granted here.
          </p>
        )}
      </Side>
      {joining && (
        <Join
          onClose={(begun) => {
            setJoining(false);
            if (begun) setBegun(begun);
          }}
        />
      )}
    </>
  );
}

function One({ one, onBegun }: { one: DirectoryOut; onBegun: (directory: string) => void }) {
  const { id, index, canEdit } = usePlan();
  const [trouble, setTrouble] = useState("");
  const [asking, setAsking] = useState(false);
  const client = useQueryClient();
  const { directory } = one;
  const read = async (full: boolean) => {
    setTrouble("");
    if (!one.password_known) return setAsking(true);
    try {
      await ask(api.POST("/api/v1/plans/{plan}/directories/reading", { params: { path: { plan: id } }, body: { directory, full } }));
      await client.invalidateQueries({ queryKey: ["reading", id, directory.id] });
      onBegun(directory.id);
    } catch (error) {
      setTrouble(message(error));
    }
  };
  const kinds = new Map<string, DirectoryOut["troubles"]>();
  for (const trouble of one.troubles) kinds.set(trouble.kind, [...(kinds.get(trouble.kind) ?? []), trouble]);
  return (
    <section className="directory" aria-label={directory.name}>
      <div className="row">
        <h2>
          {directory.name} <span className="muted">{directory.domain}</span>
        </h2>
        <span className="spread" />
        {canEdit && (
          <>
            <Button size="small" type="primary" onClick={() => void read(false)}>
              Read what changed
            </Button>
            <Button size="small" onClick={() => void read(true)}>
              Read everything
            </Button>
          </>
        )}
      </div>
      <p className={old(one.at) ? "late" : ""}>
        {one.at ? (
          <>
            The copy in this plan is from <Ago at={one.at} /> <span className="muted">({when(one.at)})</span>. Without the directory, the
            plan goes on with it.
          </>
        ) : (
          "It was not read yet."
        )}
      </p>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      <Reading directory={directory.id} name={directory.name} onDone={() => undefined} />
      <dl className="figures">
        <div>
          <dt>accounts</dt>
          <dd>{one.users.toLocaleString()}</dd>
        </div>
        <div>
          <dt>groups</dt>
          <dd>{one.groups.toLocaleString()}</dd>
        </div>
        <div>
          <dt>disabled</dt>
          <dd>{one.shut.toLocaleString()}</dd>
        </div>
        <div>
          <dt>gone</dt>
          <dd>{one.gone.length.toLocaleString()}</dd>
        </div>
      </dl>
      {one.namesakes.length > 0 && (
        <>
          <h3>Shown by the same name as somebody from elsewhere</h3>
          <ul className="words" tabIndex={0}>
            {one.namesakes.map((who) => (
              <li key={who}>
                <Link to={`/p/${id}/people?who=${encodeURIComponent(who)}`}>{whoName(index, who)}</Link>{" "}
                <span className="muted">signs in as {calledName(index, who)}</span>
              </li>
            ))}
          </ul>
        </>
      )}
      <h3>
        {one.trouble_count === 0 ? "Nothing is wrong with its accounts and numbers" : `${plural(one.trouble_count, "thing")} to look at`}
      </h3>
      {[...kinds].map(([kind, troubles]) => (
        <ul key={kind} className="words" tabIndex={0} aria-label={kind}>
          {troubles.map((trouble, number) => (
            <li key={number}>
              <b>{kind}</b> <Link to={`/p/${id}/people?who=${encodeURIComponent(trouble.whos[0] ?? "")}`}>{trouble.words}</Link>
            </li>
          ))}
        </ul>
      ))}
      {asking && (
        <Join
          known={one}
          onClose={(begun) => {
            setAsking(false);
            if (begun) onBegun(begun);
          }}
        />
      )}
    </section>
  );
}

const old = (at: string | null) => at !== null && Date.now() - new Date(at).getTime() > 7 * 86400_000;

/** How a directory is read, and which numbers its accounts get. */
function Settings({ one, onBegun }: { one: DirectoryOut; onBegun: (directory: string) => void }) {
  const { outline, canEdit, edit } = usePlan();
  const [dialog, setDialog] = useState<"settings" | "numbers" | "leave" | null>(null);
  const { directory } = one;
  const tls = { ldaps: "LDAPS", starttls: "StartTLS", plain: "no TLS" }[directory.security ?? "ldaps"];
  const comes = [directory.users && "users", directory.groups && "groups", directory.services && "services"].filter(Boolean).join(", ");
  return (
    <>
      <h2>{directory.name}</h2>
      <dl className="settings">
        <dt>Kind</dt>
        <dd>{SCHEMAS[directory.schema ?? "ad"]}</dd>
        <dt>Controller</dt>
        <dd>
          {directory.controller ?? "found by name service"}, {tls}
        </dd>
        {directory.fingerprint && (
          <>
            <dt>Certificate</dt>
            <dd>
              <code>{directory.fingerprint.slice(0, 16)}…</code> accepted
            </dd>
          </>
        )}
        <dt>Reads as</dt>
        <dd>
          {directory.reader || "nobody"}
          {!one.password_known && <span className="muted"> (password not known here)</span>}
        </dd>
        <dt>Below</dt>
        <dd>{(directory.branches?.length ? directory.branches : [directory.base || "everything"]).join("; ")}</dd>
        <dt>Comes in</dt>
        <dd>{comes}</dd>
      </dl>
      <label className="row">
        <input
          type="checkbox"
          disabled={!canEdit}
          checked={outline.target.baseline_covers_directory ?? true}
          onChange={(event) =>
            void edit([{ op: "set-target", target: { ...outline.target, baseline_covers_directory: event.target.checked } }])
          }
        />{" "}
        the baseline covers its users
      </label>
      {canEdit && (
        <Button size="small" style={{ marginTop: 8 }} onClick={() => setDialog("settings")}>
          Settings …
        </Button>
      )}
      <h3>Numbers</h3>
      <p>
        {NUMBERING[directory.numbering ?? "offset"]}
        {directory.numbering !== "directory" && (
          <>
            , {(directory.low ?? 0).toLocaleString()} to {(directory.high ?? 0).toLocaleString()}
          </>
        )}
      </p>
      {canEdit && one.at && (
        <Button size="small" onClick={() => setDialog("numbers")}>
          Other numbers …
        </Button>
      )}
      <h3>Leave</h3>
      {canEdit && (
        <Button size="small" danger onClick={() => setDialog("leave")}>
          Leave {directory.name} …
        </Button>
      )}
      {dialog === "settings" && (
        <Join
          known={one}
          onClose={(begun) => {
            setDialog(null);
            if (begun) onBegun(begun);
          }}
        />
      )}
      {dialog === "numbers" && <Numbers directory={directory} onClose={() => setDialog(null)} />}
      {dialog === "leave" && (
        <RemoveDialog name={directory.name} edit={{ op: "remove-directory", directory: directory.id }} onClose={() => setDialog(null)} />
      )}
    </>
  );
}
