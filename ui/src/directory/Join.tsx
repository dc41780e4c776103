import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Drawer, Input, Select } from "antd";
import { useState, type ReactNode } from "react";
import { api, ask, freeId, message, type Directory, type DirectoryOut, type StepOut } from "../api/client";
import { Source, toBase64 } from "../parts/Source";
import { usePlan } from "../plan/PlanContext";
import { baseOf, NUMBERING, SCHEMAS } from "./words";

type Step = StepOut["step"];
type Checked = { steps: StepOut[]; fingerprint: string | null; distrust: string | null };

const EMPTY: Directory = {
  id: "",
  name: "",
  domain: "",
  schema: "ad",
  controller: null,
  security: "ldaps",
  fingerprint: null,
  plain_agreed: false,
  reader: "",
  base: "",
  branches: [],
  filter: "",
  users: true,
  groups: true,
  services: true,
  numbering: "offset",
  low: 100_000,
  high: 999_999,
  next: null,
};

/** The path to a directory: where it is, who reads it, what comes in, which numbers; each part tried, and what failed said beside it. */
export function Join({ known, onClose }: { known?: DirectoryOut; onClose: (begun: string | null) => void }) {
  const { id, administers } = usePlan();
  const [draft, setDraft] = useState<Directory>(known?.directory ?? EMPTY);
  const [from, setFrom] = useState<"ldap" | "ldif">("ldap");
  const [ldif, setLdif] = useState<Uint8Array | null>(null);
  const [password, setPassword] = useState("");
  const [checked, setChecked] = useState<Checked | null>(null);
  const client = useQueryClient();
  const put = (change: Partial<Directory>) => {
    setDraft((old) => ({ ...old, ...change }));
    setChecked(null);
  };
  const full: Directory = { ...draft, id: known?.directory.id ?? "", base: draft.base || (from === "ldap" ? baseOf(draft.domain) : "") };
  const withId = async (directory: Directory) => ({ ...directory, id: directory.id || (await freeId(id, directory.name)) });
  const test = useMutation({
    mutationFn: async (directory: Directory) =>
      ask(
        api.POST("/api/v1/plans/{plan}/directories/check", {
          params: { path: { plan: id } },
          body: { directory: await withId(directory), password: password || null },
        }),
      ),
    onSuccess: setChecked,
  });
  const begin = useMutation({
    mutationFn: async () => {
      const directory = await withId(full);
      await ask(
        api.POST("/api/v1/plans/{plan}/directories/reading", {
          params: { path: { plan: id } },
          body: { directory, password: password || null, full: true, ldif: from === "ldif" ? toBase64(ldif ?? new Uint8Array()) : null },
        }),
      );
      return directory.id;
    },
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["reading", id, made] });
      void client.invalidateQueries({ queryKey: ["directories", id] });
      onClose(made);
    },
  });
  const passed = checked !== null && checked.steps.every((step) => step.passed);
  const named = draft.name.trim() !== "" && draft.domain.trim() !== "";
  const said = (...steps: Step[]) =>
    (checked?.steps ?? [])
      .filter((one) => steps.includes(one.step))
      .map((one) => (
        <p key={one.step} className={one.passed ? "passed" : "failed"} role={one.passed ? undefined : "alert"}>
          {one.passed ? "✓" : "✗"} {one.words}
        </p>
      ));
  const trust = checked?.fingerprint ? (
    <div className="trust">
      The certificate {checked.distrust}. Its SHA-256 fingerprint:
      <br />
      <code>{checked.fingerprint.match(/.{8}/g)!.join(" ")}</code>
      <br />
      <Button
        size="small"
        onClick={() => {
          const accepted = { ...full, fingerprint: checked.fingerprint };
          setDraft((old) => ({ ...old, fingerprint: checked.fingerprint }));
          test.mutate(accepted);
        }}
      >
        This is the certificate that the administrator named: accept it
      </Button>
    </div>
  ) : null;
  return (
    <Drawer
      title={known ? `Settings of ${known.directory.name}` : "Join a directory"}
      open
      size={640}
      onClose={() => onClose(null)}
      footer={
        <div className="row">
          <span className="spread muted">
            {from === "ldif" || passed
              ? "Reading shows what would come in; nothing is kept before you say so."
              : "Try it first; nothing is kept by that."}
          </span>
          {from === "ldap" && (
            <Button disabled={!named} loading={test.isPending} onClick={() => test.mutate(full)}>
              Try it
            </Button>
          )}
          <Button
            type="primary"
            disabled={!named || (from === "ldap" ? !passed : !ldif)}
            loading={begin.isPending}
            onClick={() => begin.mutate()}
          >
            Read it
          </Button>
        </div>
      }
    >
      <ol className="path">
        <Part title="The domain">
          <div className="row">
            <label className="field spread">
              <span>Domain name</span>
              <Input
                value={draft.domain}
                placeholder="office.example"
                onChange={(event) => {
                  const domain = event.target.value.trim();
                  put({
                    domain,
                    name:
                      known || (draft.name && draft.name !== (draft.domain.split(".")[0] ?? "").toUpperCase())
                        ? draft.name
                        : (domain.split(".")[0] ?? "").toUpperCase(),
                  });
                }}
              />
            </label>
            <label className="field" style={{ width: 170 }}>
              <span>Short name</span>
              <Input value={draft.name} placeholder="OFFICE" onChange={(event) => put({ name: event.target.value.trim() })} />
            </label>
          </div>
          <label className="field">
            <span>Kind</span>
            <Select
              aria-label="Kind of directory"
              style={{ width: "100%" }}
              value={draft.schema}
              onChange={(schema) => put({ schema })}
              options={Object.entries(SCHEMAS).map(([value, label]) => ({ value: value as Directory["schema"], label }))}
            />
          </label>
          <label className="field">
            <span>Its accounts come from</span>
            <Select
              aria-label="Where its accounts come from"
              style={{ width: "100%" }}
              value={from}
              onChange={setFrom}
              options={[
                { value: "ldap" as const, label: "the directory itself, over LDAP" },
                { value: "ldif" as const, label: "an LDIF file that was taken from it" },
              ]}
            />
          </label>
        </Part>
        {from === "ldif" && (
          <Part title="The file">
            <Source label="LDIF (RFC 2849)" value={ldif} onChange={setLdif} />
          </Part>
        )}
        {from === "ldap" && (
          <>
            <Part title="Its controller">
              {!administers && (
                <p className="muted">
                  {known
                    ? "Where it is read from, how and as whom is an administrator’s to change: the password goes there."
                    : "Only an administrator may join a directory over LDAP, since a password goes there. You can read an LDIF file yourself."}
                </p>
              )}
              <div className="row">
                <label className="field spread">
                  <span>Name or address, with :port where it is not the usual one</span>
                  <Input
                    value={draft.controller ?? ""}
                    placeholder="found by the domain's SRV record"
                    disabled={!administers}
                    onChange={(event) => put({ controller: event.target.value.trim() || null, fingerprint: null })}
                  />
                </label>
                <label className="field" style={{ width: 170 }}>
                  <span>Secured by</span>
                  <Select
                    aria-label="Secured by"
                    disabled={!administers}
                    style={{ width: "100%" }}
                    value={draft.security}
                    onChange={(security) => put({ security, plain_agreed: false })}
                    options={[
                      { value: "ldaps", label: "LDAPS" },
                      { value: "starttls", label: "StartTLS" },
                      { value: "plain", label: "nothing" },
                    ]}
                  />
                </label>
              </div>
              {draft.security === "plain" && (
                <Checkbox checked={draft.plain_agreed} onChange={(event) => put({ plain_agreed: event.target.checked })}>
                  The password may go over the network readable for everybody. I want that.
                </Checkbox>
              )}
              {draft.fingerprint && (
                <p className="muted">
                  Only this certificate is accepted: <code>{draft.fingerprint.slice(0, 16)}…</code>{" "}
                  <Button size="small" onClick={() => put({ fingerprint: null })}>
                    Ask for a trusted one instead
                  </Button>
                </p>
              )}
              {said("controller", "port", "tls")}
              {trust}
            </Part>
            <Part title="The account to read with">
              <div className="row">
                <label className="field spread">
                  <span>Account</span>
                  <Input
                    value={draft.reader}
                    disabled={!administers}
                    autoComplete="off"
                    placeholder={`reader@${draft.domain || "office.example"}`}
                    onChange={(event) => put({ reader: event.target.value.trim() })}
                  />
                </label>
                <label className="field spread">
                  <span>Password {known?.password_known && "(known here; empty keeps it)"}</span>
                  <Input.Password
                    value={password}
                    autoComplete="off"
                    onChange={(event) => {
                      setPassword(event.target.value);
                      setChecked(null);
                    }}
                  />
                </label>
              </div>
              <p className="muted">The password stays in the server's memory until it ends; it is never written down.</p>
              {said("sign-in", "clock")}
            </Part>
          </>
        )}
        <Part title="What comes in">
          <label className="field">
            <span>Below</span>
            <Input
              value={draft.base}
              placeholder={baseOf(draft.domain) || "everything"}
              onChange={(event) => put({ base: event.target.value })}
            />
          </label>
          <label className="field">
            <span>Only from these branches, one a line (empty: everything)</span>
            <Input.TextArea
              autoSize={{ minRows: 1, maxRows: 5 }}
              value={(draft.branches ?? []).join("\n")}
              onChange={(event) => put({ branches: event.target.value.split("\n").filter((line) => line.trim()) })}
            />
          </label>
          {from === "ldap" && (
            <label className="field">
              <span>A further condition (LDAP filter, RFC 4515)</span>
              <Input value={draft.filter} placeholder="(department=Yard)" onChange={(event) => put({ filter: event.target.value })} />
            </label>
          )}
          <div className="row">
            <Checkbox checked={draft.users} onChange={(event) => put({ users: event.target.checked })}>
              users
            </Checkbox>
            <Checkbox checked={draft.groups} onChange={(event) => put({ groups: event.target.checked })}>
              groups
            </Checkbox>
            <Checkbox checked={draft.services} onChange={(event) => put({ services: event.target.checked })}>
              services
            </Checkbox>
          </div>
          {said("base", "read", "paging")}
        </Part>
        {!known && (
          <Part title="Numbers on the appliance">
            <label className="field">
              <span>uid and gid</span>
              <Select
                aria-label="How accounts get their numbers"
                style={{ width: "100%" }}
                value={draft.numbering}
                onChange={(numbering) => put({ numbering })}
                options={Object.entries(NUMBERING).map(([value, label]) => ({ value: value as Directory["numbering"], label }))}
              />
            </label>
            {draft.numbering !== "directory" && (
              <div className="row">
                from{" "}
                <Input
                  aria-label="Lowest number"
                  style={{ width: 110 }}
                  value={draft.low}
                  onChange={(event) => put({ low: Number(event.target.value) || 0 })}
                />{" "}
                to{" "}
                <Input
                  aria-label="Highest number"
                  style={{ width: 110 }}
                  value={draft.high}
                  onChange={(event) => put({ high: Number(event.target.value) || 0 })}
                />
              </div>
            )}
          </Part>
        )}
      </ol>
      {(test.isError || begin.isError) && (
        <div className="trouble" role="alert">
          {message(test.error ?? begin.error)}
        </div>
      )}
    </Drawer>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <li>
      <h3>{title}</h3>
      {children}
    </li>
  );
}
