import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Popconfirm } from "antd";
import { useState } from "react";
import { api, ask, message, type RolloutOut, type Schemas } from "../api/client";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";
import { shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { whereTo } from "./Destination";
import { Slips } from "./Slips";

type Given = Schemas["GivenPassword"];

/** Who can sign in on the appliance, and who has: first passwords, and the sessions that are open now. */
export function SignIns({ rollout, only, onClose }: { rollout: RolloutOut; only: string; onClose: () => void }) {
  const [given, setGiven] = useState<Given[] | null>(null);
  const host = whereTo(rollout.destination);
  if (given) return <Slips given={given} host={host} onClose={() => setGiven(null)} />;
  return (
    <div className="work">
      <div className="tools">
        <b>Signing in at {host}</b>
        <span className="spread" />
        <Button size="small" onClick={onClose}>
          Back to the steps
        </Button>
      </div>
      <div className="sentences">
        <Passwords only={only} host={host} onGiven={setGiven} />
        <Sessions />
      </div>
    </div>
  );
}

/** Whose password nobody knows yet; new ones for some. */
function Passwords({ only, host, onGiven }: { only: string; host: string; onGiven: (given: Given[]) => void }) {
  const { id, index, canEdit } = usePlan();
  const client = useQueryClient();
  const key = ["of-plan", id, "passwords"];
  const found = useQuery({
    queryKey: key,
    queryFn: () => ask(api.POST("/api/v1/plans/{plan}/rollout/passwords/read", { params: { path: { plan: id } } })),
    staleTime: 0,
    retry: false,
  });
  const [picked, setPicked] = useState<ReadonlySet<string> | null>(null);
  const [change, setChange] = useState(false);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const states = [...(found.data ?? [])].sort((a, b) => Number(a.given) - Number(b.given));
  const fresh = states.filter((one) => !one.given);
  const chosen = picked ?? new Set(only ? [only] : fresh.map((one) => one.user));
  const wanted = states.filter((one) => chosen.has(one.user));
  const others = wanted.filter((one) => one.given);
  const name = (one: Schemas["PasswordState"]) => (index.users.has(one.user) ? shownName(index.users.get(one.user)!) : one.account);
  const make = async () => {
    setBusy(true);
    setTrouble("");
    try {
      const users = wanted.map((one) => one.user);
      const made = await ask(
        api.POST("/api/v1/plans/{plan}/rollout/passwords", { params: { path: { plan: id } }, body: { users, change } }),
      );
      setPicked(new Set());
      void client.invalidateQueries({ queryKey: key });
      onGiven(made);
    } catch (problem) {
      setTrouble(message(problem));
    }
    setBusy(false);
  };
  const toggle = (user: string) => {
    const next = new Set(chosen);
    if (!next.delete(user)) next.add(user);
    setPicked(next);
  };
  const act = (
    <Button type="primary" loading={busy} disabled={wanted.length === 0} onClick={others.length === 0 ? () => void make() : undefined}>
      {wanted.length === 0 ? "Make passwords" : `Make ${plural(wanted.length, "password")}`}
    </Button>
  );
  return (
    <>
      <h2>
        Passwords{" "}
        <span className="muted">{found.data && `${fresh.length} of ${plural(states.length, "person", "people")} have none yet`}</span>
      </h2>
      {found.isError && (
        <div className="trouble">
          {message(found.error)} <Button onClick={() => void found.refetch()}>Try again</Button>
        </div>
      )}
      {found.isPending && <p role="status">Asking {host} …</p>}
      {found.data?.length === 0 && <p className="muted">No rollout of this plan has made an account there yet.</p>}
      {states.length > 0 && (
        <>
          <p className="muted">
            A rollout makes accounts with a password that nobody knows. Make first ones here, print them, and hand them out: they are shown
            once, and kept nowhere but on the appliance.
          </p>
          <div className="picks" tabIndex={0} role="group" aria-label="Who gets a new password">
            {states.map((one) => (
              <div key={one.user} className="row">
                <Checkbox className="spread" checked={chosen.has(one.user)} disabled={!canEdit} onChange={() => toggle(one.user)}>
                  {name(one)} <span className="muted">{one.account}</span>
                </Checkbox>
                <span className={one.given ? "muted" : "late"}>{one.given ? "has one" : "none yet: cannot sign in"}</span>
              </div>
            ))}
          </div>
          {canEdit && (
            <div className="row acts">
              <Checkbox checked={change} onChange={(event) => setChange(event.target.checked)}>
                They must choose another at once
              </Checkbox>
              <span className="spread" />
              {others.length === 0 ? (
                act
              ) : (
                <Popconfirm
                  title={`Replace ${others.length === 1 ? `the password of ${name(others[0]!)}` : `${others.length} passwords`}?`}
                  description="What they use now stops working for new sessions at once."
                  okText="Replace"
                  cancelText="Cancel"
                  onConfirm={() => void make()}
                >
                  {act}
                </Popconfirm>
              )}
            </div>
          )}
          {change && (
            <p className="muted">
              Until then the server lets them into nothing. Windows asks for the new one by itself; on Linux: smbpasswd -r SERVER -U NAME.
            </p>
          )}
          {trouble && <div className="trouble">{trouble}</div>}
        </>
      )}
    </>
  );
}

/** Who has shares open now. */
function Sessions() {
  const { id, index, canEdit } = usePlan();
  const client = useQueryClient();
  const key = ["of-plan", id, "sessions"];
  const found = useSessions(true);
  const [trouble, setTrouble] = useState("");
  const end = async (user: string) => {
    setTrouble("");
    try {
      await ask(api.POST("/api/v1/plans/{plan}/rollout/sessions/end", { params: { path: { plan: id } }, body: { users: [user] } }));
    } catch (problem) {
      setTrouble(message(problem));
    }
    await client.invalidateQueries({ queryKey: key });
  };
  return (
    <>
      <h2>
        Open now <span className="muted">{found.data?.length}</span>{" "}
        <Button size="small" loading={found.isFetching} onClick={() => void found.refetch()}>
          Ask again
        </Button>
      </h2>
      <p className="muted">A session keeps the groups that it began with: whoever is taken out of one goes on until it ends.</p>
      {found.isError && <div className="trouble">{message(found.error)}</div>}
      {trouble && <div className="trouble">{trouble}</div>}
      {found.data?.length === 0 && <p>Nobody has a share open.</p>}
      {found.data && found.data.length > 0 && (
        <table className="sessions">
          <thead>
            <tr>
              <th>Who</th>
              <th>From</th>
              <th>Since</th>
              <th>Shares</th>
              <th>Open files</th>
              <th>
                <span className="sr">Acts</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((one, number) => (
              <tr key={number}>
                <td>
                  {one.user && index.users.has(one.user) ? shownName(index.users.get(one.user)!) : one.account}
                  {one.stale && <div className="late">keeps old access after the next rollout</div>}
                </td>
                <td>{one.machine}</td>
                <td>{one.since && <Ago at={one.since} />}</td>
                <td>{one.shares.join(", ")}</td>
                <td title={one.files.join("\n")}>{one.files.length || "none"}</td>
                <td>
                  {canEdit && one.user && (
                    <Popconfirm
                      title={`End what ${one.account} has open?`}
                      description={
                        <div className="narrow">
                          {one.files.length > 0
                            ? `Work that is not saved in ${plural(one.files.length, "open file")} may be lost.`
                            : "No file is open in it."}{" "}
                          Whoever may still get in is signed in again by their computer.
                        </div>
                      }
                      okText="End it"
                      cancelText="Cancel"
                      okButtonProps={{ danger: true }}
                      onConfirm={() => void end(one.user!)}
                    >
                      <Button size="small" aria-label={`End the session of ${one.account}`}>
                        End …
                      </Button>
                    </Popconfirm>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

/** The sessions that are open on the appliance, asked there. */
export function useSessions(enabled: boolean) {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "sessions"],
    queryFn: () => ask(api.POST("/api/v1/plans/{plan}/rollout/sessions/read", { params: { path: { plan: id } } })),
    enabled,
    staleTime: 0,
    retry: false,
  });
}
