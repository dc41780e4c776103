import { useQuery } from "@tanstack/react-query";
import { AutoComplete, Button, Dropdown, Input, Tooltip } from "antd";
import type { InputRef } from "antd";
import { lazy, Suspense, useDeferredValue, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { NavLink, useLocation, useNavigate, useSearchParams } from "react-router";
import { api, ask, type Outline, type Session, type User } from "../api/client";
import { calledName, isLocal, pathName, shownName } from "../plan/index";
import { KEYS, usePlan } from "../plan/PlanContext";
import { STAYS, useDirectories, useFormats, useRollout, useSince, useStanding, useStands } from "../plan/queries";
import { Brand, signOut } from "./Brand";
import { Ago } from "../parts/Ago";
import { plural } from "../parts/plural";

const History = lazy(() => import("../history/History"));
const TakeIn = lazy(() => import("../transfer/TakeIn"));
const Accounts = lazy(() => import("../signin/Accounts"));
const Audit = lazy(() => import("../signin/Audit"));
const Help = lazy(() => import("../help/Help"));
const Mine = lazy(() => import("../signin/Mine"));

/** What stands around every station: bar, stations, strip. */
export function Frame({ session, children }: { session: Session; children: ReactNode }) {
  const { id, outline, index, canEdit, live, step } = usePlan();
  const [drawer, setDrawer] = useState<"history" | "take-in" | "accounts" | "audit" | "mine" | "help" | null>(null);
  const navigate = useNavigate();
  const base = `/p/${id}`;
  const stands = useStands().data;
  const formats = useFormats().filter((one) => one.of === "plan");
  const off = (stands?.more ?? 0) + (stands?.less ?? 0);
  const latest = useQuery({
    queryKey: ["of-plan", id, ...KEYS.last],
    staleTime: STAYS,
    queryFn: async () => (await ask(api.GET("/api/v1/plans/{plan}/history", { params: { path: { plan: id }, query: { most: 1 } } })))[0]!,
  });
  const last = latest.data;
  const directories = useDirectories();
  const agreed = useStanding().data;
  const broken = agreed?.promises.filter((one) => one.broken > 0).length ?? 0;
  const found = agreed?.findings.filter((one) => one.open) ?? [];
  const serious = found.filter((one) => one.severity === "serious").length;
  const rollout = useRollout(false).data;
  const since = useSince().data;
  const shut = outline.inactive.length;
  const loose = outline.users.filter((user) => !index.groupsOf.has(user.id)).length;

  useEffect(() => {
    document.title = `${outline.name} · Yard Gate`;
  }, [outline.name]);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const key = event.key.toLowerCase();
      const typing = (event.target as HTMLElement | null)?.closest?.("input, textarea, [contenteditable=true], [role=dialog]");
      if (event.defaultPrevented || typing || !(event.ctrlKey || event.metaKey) || event.altKey || (key !== "z" && key !== "y")) return;
      event.preventDefault();
      const what = key === "y" || event.shiftKey ? "redo" : "undo";
      if (canEdit && outline[what]) void step(what);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [canEdit, outline, step]);

  return (
    <div className="frame">
      <header className="bar">
        <Brand />
        <Tooltip title="All plans">
          <button className="plain" onClick={() => void navigate("/plans")}>
            {outline.office && `${outline.office} · `}
            <b>{outline.name}</b>
            {outline.archived && " (archived)"}
          </button>
        </Tooltip>
        <span className="spread" />
        <Find />
        <Dropdown
          trigger={["click"]}
          menu={{
            items: [
              { key: "mine", label: "My password and sessions …" },
              ...(session.role === "administrator"
                ? [
                    { key: "accounts", label: "Who may sign in …" },
                    { key: "audit", label: "Audit log …" },
                  ]
                : []),
              { key: "out", label: "Sign out" },
            ],
            onClick: ({ key }) => (key === "out" ? void signOut() : setDrawer(key as "mine" | "accounts" | "audit")),
          }}
        >
          <button className="plain">
            {session.name}
            {outline.may === "reader" && " (reader)"} ▾
          </button>
        </Dropdown>
      </header>
      <nav className="stations" aria-label="Stations">
        <NavLink to={`${base}/begin`}>Begin</NavLink>
        <NavLink to={`${base}/people`}>
          People <span className="count">{outline.users.length.toLocaleString()}</span>
        </NavLink>
        <NavLink to={`${base}/storage`}>
          Storage <span className="count">{outline.places.length.toLocaleString()}</span>
        </NavLink>
        <NavLink to={`${base}/board`}>
          Board{" "}
          {off > 0 && (
            <span className="count bad" title="cells of people who do not get what is granted to them">
              {off.toLocaleString()} not as granted
            </span>
          )}
        </NavLink>
        <NavLink to={`${base}/shares`}>
          Shares <span className="count">{outline.shares.length.toLocaleString()}</span>
        </NavLink>
        <NavLink to={`${base}/walk`}>Walk</NavLink>
        <NavLink to={`${base}/promises`}>
          Promises{" "}
          {broken > 0 ? (
            <span className="count bad">{broken.toLocaleString()} broken</span>
          ) : (
            agreed && <span className="count">{agreed.promises.length.toLocaleString()}</span>
          )}
        </NavLink>
        <NavLink to={`${base}/rollout`}>Rollout {rollout && <span className="count">{rollout.total.toLocaleString()}</span>}</NavLink>
        <span className="spread" />
        <span className="row">
          <Tooltip title={outline.undo ? `Undo: ${outline.undo.words}` : "Nothing to undo"}>
            <Button size="small" disabled={!canEdit || !outline.undo} onClick={() => void step("undo")}>
              Undo
            </Button>
          </Tooltip>
          <Tooltip title={outline.redo ? `Redo: ${outline.redo.words}` : "Nothing to redo"}>
            <Button size="small" disabled={!canEdit || !outline.redo} onClick={() => void step("redo")}>
              Redo
            </Button>
          </Tooltip>
          <Button size="small" onClick={() => setDrawer("history")}>
            History
          </Button>
          {canEdit && (
            <Button size="small" onClick={() => setDrawer("take-in")}>
              Import …
            </Button>
          )}
          <Dropdown
            trigger={["click"]}
            menu={{
              items: [
                { key: "report", label: "Access report, to print …" },
                ...formats.map((one) => ({ key: one.name, label: one.words })),
              ],
              onClick: ({ key }) =>
                key === "report" ? void navigate(`${base}/report`) : window.location.assign(`/api/v1/plans/${id}/export/${key}`),
            }}
          >
            <Button size="small">Export ▾</Button>
          </Dropdown>
          <Button size="small" aria-label="Help" title="What this is for, its signs, and what words mean" onClick={() => setDrawer("help")}>
            Help
          </Button>
        </span>
      </nav>
      <main className="station">{children}</main>
      <footer className="strip">
        <span>
          <span className="dot" style={{ background: live ? "var(--rw)" : "var(--attention)" }} />
          {live
            ? canEdit
              ? "every change is kept at once"
              : outline.archived
                ? "archived, to be read"
                : "to be read"
            : "the server does not answer; trying again"}
        </span>
        {stands && (
          <button
            className={`plain ${off > 0 ? "late" : ""}`}
            title="What people get over the shares, beside what is granted to them"
            onClick={() => void navigate(`${base}/board?view=off`)}
          >
            {off === 0
              ? "everybody gets what is granted"
              : [
                  stands.more > 0 && `${stands.more.toLocaleString()} get more`,
                  stands.less > 0 && `${stands.less.toLocaleString()} get less`,
                ]
                  .filter(Boolean)
                  .join(", ")}
          </button>
        )}
        {agreed && (
          <button className={`plain ${serious > 0 ? "late" : ""}`} onClick={() => void navigate(`${base}/promises?show=findings`)}>
            {found.length === 0
              ? "nothing found"
              : serious > 0
                ? `${serious} serious of ${plural(found.length, "finding")}`
                : plural(found.length, "finding")}
          </button>
        )}
        {agreed && agreed.promises.length > 0 && (
          <button className={`plain ${broken > 0 ? "late" : ""}`} onClick={() => void navigate(`${base}/promises`)}>
            {broken === 0
              ? `${plural(agreed.promises.length, "promise")} kept`
              : `${agreed.promises.length - broken} of ${agreed.promises.length} promises kept`}
          </button>
        )}
        {outline.cycles.length > 0 && (
          <button className="plain" onClick={() => void navigate(`${base}/people?who=${encodeURIComponent(outline.cycles[0]![0]!)}`)}>
            {outline.cycles.length} {outline.cycles.length === 1 ? "circle" : "circles"} of groups
          </button>
        )}
        {loose > 0 && (
          <button className="plain" onClick={() => void navigate(`${base}/people`)}>
            {loose} in no group
          </button>
        )}
        {shut > 0 && (
          <button className="plain" onClick={() => void navigate(`${base}/people?who=${encodeURIComponent(outline.inactive[0]!)}`)}>
            {shut} {shut === 1 ? "account" : "accounts"} disabled or expired
          </button>
        )}
        {directories.data?.map(({ directory, at }) => (
          <button key={directory.id} className="plain" onClick={() => void navigate(`${base}/directories`)}>
            {directory.name}{" "}
            {at ? (
              <>
                as of <Ago at={at} />
              </>
            ) : (
              "not read yet"
            )}
          </button>
        ))}
        {since?.revision != null && (since.changed.total > 0 || since.revision < outline.revision) && (
          <button className="plain late" onClick={() => void navigate(`${base}/rollout`)}>
            {since.changed.total > 0
              ? `${plural(since.changed.total, "cell")} not on the appliance yet`
              : "changes not on the appliance yet"}
          </button>
        )}
        <span className="spread" />
        {last && (
          <button className="plain last" onClick={() => setDrawer("history")} title={last.words}>
            revision {last.revision} · {last.by}, <Ago at={last.at} />: {last.words}
          </button>
        )}
      </footer>
      <Suspense fallback={null}>
        {drawer === "help" && <Help onClose={() => setDrawer(null)} />}
        {drawer === "history" && <History onClose={() => setDrawer(null)} />}
        {drawer === "take-in" && <TakeIn onClose={() => setDrawer(null)} />}
        {drawer === "accounts" && <Accounts onClose={() => setDrawer(null)} />}
        {drawer === "audit" && <Audit onClose={() => setDrawer(null)} />}
        {drawer === "mine" && <Mine session={session} onClose={() => setDrawer(null)} />}
      </Suspense>
    </div>
  );
}

/** Every other name that an account can be found by: NAME\\account, account@domain, aliases. */
function signIns(user: User, outline: Outline): string {
  const directory = outline.directories.find((one) => one.id === user.origin);
  return [...(user.aliases ?? []), ...(directory ? [`${directory.name}\\${user.name}`, `${user.name}@${directory.domain}`] : [])].join(" ");
}

/** Find a person, group, place or share, from anywhere by "/". */
function Find() {
  const { id, outline, index } = usePlan();
  const [text, setText] = useState("");
  const settled = useDeferredValue(text);
  const navigate = useNavigate();
  const location = useLocation();
  const [params] = useSearchParams();
  const input = useRef<InputRef>(null);
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      const element = event.target as HTMLElement;
      if (event.key !== "/" || event.ctrlKey || event.metaKey || ["INPUT", "TEXTAREA"].includes(element.tagName)) return;
      event.preventDefault();
      input.current?.focus();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  const options = useMemo(() => {
    const wanted = settled.trim().toLowerCase();
    if (!wanted) return [];
    const found: { value: string; label: ReactNode; rank: number }[] = [];
    const add = (value: string, name: string, detail: string, more = "") => {
      const place = `${name} ${detail} ${more}`.toLowerCase().indexOf(wanted);
      if (place >= 0)
        found.push({
          value,
          rank: place === 0 ? 0 : 1,
          label: (
            <span>
              {name} <span className="muted">{detail}</span>
            </span>
          ),
        });
    };
    for (const user of outline.users)
      add(
        `who ${user.id}`,
        shownName(user),
        isLocal(user) ? (user.full_name ? user.name : (user.kind ?? "person")) : calledName(index, user.id),
        signIns(user, outline),
      );
    for (const group of outline.groups)
      add(`who ${group.id}`, group.name, isLocal(group) ? "group" : `group ${calledName(index, group.id)}`);
    for (const share of outline.shares) add(`share ${share.id}`, share.name, `share of ${pathName(index, share.place)}`);
    for (const place of outline.places) add(`place ${place.id}`, place.name, pathName(index, place.id));
    return found.sort((a, b) => a.rank - b.rank).slice(0, 30);
  }, [settled, outline, index]);
  const go = (value: string) => {
    const [kind, ...rest] = value.split(" ");
    const target = rest.join(" ");
    setText("");
    input.current?.blur();
    if (kind === "share") return void navigate(`/p/${id}/shares?share=${encodeURIComponent(target)}`);
    const stay = (kind === "who" && location.pathname.endsWith("/people")) || (kind === "place" && location.pathname.endsWith("/storage"));
    const next = new URLSearchParams(location.pathname.endsWith("/board") ? params : undefined);
    next.set(kind!, target);
    void navigate(stay ? `${location.pathname}?${kind}=${encodeURIComponent(target)}` : `/p/${id}/board?${next.toString()}`);
  };
  return (
    <AutoComplete
      className="find"
      value={text}
      options={options}
      defaultActiveFirstOption
      onSelect={go}
      onSearch={setText}
      notFoundContent={settled ? "Nobody and nothing of that name" : null}
      popupMatchSelectWidth={360}
    >
      <Input
        ref={input}
        size="small"
        placeholder="Find a person, group, place or share"
        aria-label="Find a person, group, place or share"
        suffix={<kbd>/</kbd>}
      />
    </AutoComplete>
  );
}
