import { useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useEffect, useRef, useState, type FormEvent } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, ask, message, type Session } from "../api/client";

/** Sign in by one-time link, by name and password, or, the first time, by making the administrator. */
export function SignIn({ session }: { session: Session }) {
  const [params] = useSearchParams();
  const link = params.get("link");
  const [stage, setStage] = useState<"link" | "first" | "password" | "switch">(link ? "link" : "password");
  const [other, setOther] = useState("");
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const client = useQueryClient();
  const navigate = useNavigate();
  const begun = useRef(false);

  const enter = async (signedIn: Promise<Session>) => {
    setBusy(true);
    setTrouble("");
    try {
      client.setQueryData(["session"], await signedIn);
      if (window.location.pathname === "/sign-in") await navigate("/", { replace: true });
    } catch (error) {
      setTrouble(message(error));
    } finally {
      setBusy(false);
    }
  };

  useEffect(() => {
    if (!link || begun.current) return;
    begun.current = true;
    void (async () => {
      try {
        const { kind, name, instead_of } = await ask(api.POST("/api/v1/session/link/kind", { body: { link } }));
        if (kind === "first") setStage("first");
        else if (kind === "sign-in" && instead_of && instead_of !== name) {
          setOther(name ?? "");
          setStage("switch");
        } else if (kind === "sign-in") await enter(ask(api.POST("/api/v1/session/link", { body: { link, switch: false } })));
        else {
          setStage("password");
          setTrouble(
            session.name
              ? "This link was used already or is too old. You are still signed in."
              : "This link was used already or is too old. Ask for a new one, or sign in by name.",
          );
        }
      } catch (error) {
        setStage("password");
        setTrouble(message(error));
      }
    })();
  });

  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const name = String(form.get("name") ?? "").trim();
    const password = String(form.get("password") ?? "");
    if (!name) setTrouble("Enter your account name.");
    else if (stage === "first" && password !== form.get("again")) setTrouble("The two passwords differ.");
    else
      void enter(
        stage === "first"
          ? ask(api.POST("/api/v1/session/first", { body: { link: link!, name, password } }))
          : ask(api.POST("/api/v1/session", { body: { name, password } })),
      );
  };

  return (
    <main className="door">
      <div className="sheet-card">
        <div className="row" style={{ marginBottom: 6 }}>
          <img src="/gate.svg" alt="" width={40} height={32} />
          <h1 style={{ fontSize: 18 }}>Yard Gate</h1>
        </div>
        {stage === "link" ? (
          <p role="status">Signing in …</p>
        ) : stage === "switch" ? (
          <>
            <p>
              You are signed in here as <b>{session.name}</b>. This link signs <b>{other}</b> in instead, and {session.name} out.
            </p>
            {trouble && (
              <div className="trouble" role="alert">
                {trouble}
              </div>
            )}
            <div className="row">
              <Button type="primary" href="/">
                Go on as {session.name}
              </Button>
              <Button
                loading={busy}
                onClick={() => void enter(ask(api.POST("/api/v1/session/link", { body: { link: link!, switch: true } })))}
              >
                Sign in as {other}
              </Button>
            </div>
          </>
        ) : (
          <form onSubmit={submit}>
            <p className="muted">
              {stage === "first"
                ? "Nobody can sign in yet. Choose name and password of the administrator."
                : session.first
                  ? "Nobody can sign in yet. Open the link that the server printed when it started."
                  : "Sign in to plan who may read and write what."}
            </p>
            <label className="field">
              <span>Name</span>
              <Input name="name" autoFocus autoComplete="username" maxLength={255} />
            </label>
            <label className="field">
              <span>Password{stage === "first" && ", at least 10 characters"}</span>
              <Input.Password name="password" autoComplete={stage === "first" ? "new-password" : "current-password"} maxLength={1000} />
            </label>
            {stage === "first" && (
              <label className="field">
                <span>Password again</span>
                <Input.Password name="again" autoComplete="new-password" maxLength={1000} />
              </label>
            )}
            {trouble && (
              <div className="trouble" role="alert">
                {trouble}
              </div>
            )}
            <div className="row">
              <Button type="primary" htmlType="submit" loading={busy} disabled={stage === "password" && session.first}>
                {stage === "first" ? "Make administrator" : "Sign in"}
              </Button>
              {session.name && <Button href="/">Go on as {session.name}</Button>}
            </div>
          </form>
        )}
      </div>
    </main>
  );
}
