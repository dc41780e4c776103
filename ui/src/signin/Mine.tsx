import { useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Drawer, Input } from "antd";
import { useState } from "react";
import { api, ask, message, type Session } from "../api/client";
import { Ago } from "../parts/Ago";

/** One's own password, and where one is signed in. */
export default function Mine({ session, onClose }: { session: Session; onClose: () => void }) {
  const client = useQueryClient();
  const { message: toast } = App.useApp();
  const sessions = useQuery({ queryKey: ["my-sessions"], queryFn: () => ask(api.GET("/api/v1/session/all")) });
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const [trouble, setTrouble] = useState("");
  const act = async (work: () => Promise<unknown>, said: string) => {
    setTrouble("");
    try {
      await work();
      await client.invalidateQueries({ queryKey: ["my-sessions"] });
      toast.success(said);
    } catch (error) {
      setTrouble(message(error));
    }
  };
  const keep = async () => {
    if (password !== again) return setTrouble("The two passwords differ.");
    await act(async () => {
      await ask(api.PUT("/api/v1/session/password", { body: { password, old: old || null } }));
      setOld("");
      setPassword("");
      setAgain("");
      await client.invalidateQueries({ queryKey: ["session"] });
    }, "Your password is set. You are signed in here only.");
  };
  const others = sessions.data?.filter((one) => !one.this).length ?? 0;
  return (
    <Drawer title={`${session.name}: password and sessions`} open onClose={onClose} size={560}>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      <h3 className="part">Where you are signed in</h3>
      {sessions.isError && <div className="trouble">{message(sessions.error)}</div>}
      <table className="list">
        <thead>
          <tr>
            <th>Browser</th>
            <th>From</th>
            <th>Used</th>
            <th>
              <span className="sr">Acts</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {sessions.data?.map((one) => (
            <tr key={one.id}>
              <td>{browser(one.agent)}</td>
              <td>{one.address}</td>
              <td className="muted">
                <Ago at={new Date(one.seen_at * 1000).toISOString()} />
              </td>
              <td>
                {one.this ? (
                  <b>here</b>
                ) : (
                  <Button
                    size="small"
                    onClick={() =>
                      void act(
                        () => ask(api.DELETE("/api/v1/session/all/{session_id}", { params: { path: { session_id: one.id } } })),
                        "Signed out there.",
                      )
                    }
                  >
                    Sign out there
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {others > 1 && (
        <p>
          <Button size="small" onClick={() => void act(() => ask(api.DELETE("/api/v1/session/all")), "Signed out everywhere but here.")}>
            Sign out everywhere but here
          </Button>
        </p>
      )}
      <p className="muted">A session ends two weeks after it began, or after two days in which nobody used it.</p>
      <h3 className="part">{session.has_password ? "Change password" : "Set a password"}</h3>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void keep();
        }}
      >
        {session.has_password && (
          <label className="field">
            <span>
              The one you have <span className="muted">(empty where you just came by a link)</span>
            </span>
            <Input.Password autoComplete="current-password" value={old} onChange={(event) => setOld(event.target.value)} />
          </label>
        )}
        <label className="field">
          <span>New password, at least 10 characters</span>
          <Input.Password autoComplete="new-password" value={password} onChange={(event) => setPassword(event.target.value)} />
        </label>
        <label className="field">
          <span>New password again</span>
          <Input.Password autoComplete="new-password" value={again} onChange={(event) => setAgain(event.target.value)} />
        </label>
        <p className="muted">It signs you out everywhere else.</p>
        <Button type="primary" htmlType="submit" disabled={password.length < 10}>
          Set password
        </Button>
      </form>
    </Drawer>
  );
}

/** What a browser calls itself, in two words. */
export function browser(agent: string): string {
  const name = /Edg\//.test(agent)
    ? "Edge"
    : /Firefox\//.test(agent)
      ? "Firefox"
      : /Chrom(e|ium)\//.test(agent)
        ? "Chrome"
        : /Safari\//.test(agent)
          ? "Safari"
          : agent.split(/[/ ]/)[0] || "unknown";
  const system = /Windows/.test(agent)
    ? "Windows"
    : /iPhone|iPad/.test(agent)
      ? "iOS"
      : /Android/.test(agent)
        ? "Android"
        : /Mac OS/.test(agent)
          ? "macOS"
          : /Linux/.test(agent)
            ? "Linux"
            : "";
  return system ? `${name} on ${system}` : name;
}
