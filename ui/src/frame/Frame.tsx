import { Button, Tooltip } from "antd";
import { lazy, Suspense, useEffect, useState, type ReactNode } from "react";
import { NavLink, useLocation, useNavigate, useSearchParams } from "react-router";
import { Menu } from "../parts/Menu";
import { changed } from "../parts/address";
import type { Session } from "../api/client";
import { Tour } from "../help/Tour";
import { NARROW, SMALL, useMedia, useScheme, type Scheme } from "../parts/looks";
import { TYPED } from "../parts/focus";
import { usePlan } from "../plan/PlanContext";
import { useFormats, useRollout, useStanding, useStands } from "../plan/queries";
import { Brand, signOut } from "./Brand";
import { Find } from "./Find";
import { Others } from "./Others";
import { Strip } from "./Strip";

const History = lazy(() => import("../history/History"));
const TakeIn = lazy(() => import("../transfer/TakeIn"));
const Accounts = lazy(() => import("../signin/Accounts"));
const Audit = lazy(() => import("../signin/Audit"));
const Help = lazy(() => import("../help/Help"));
const Mine = lazy(() => import("../signin/Mine"));

type Drawer = "history" | "take-in" | "accounts" | "audit" | "mine" | "help";
const isDrawer = (key: string): key is Drawer => ["history", "take-in", "accounts", "audit", "mine", "help"].includes(key);
const SCHEMES: [Scheme, string][] = [
  ["system", "as the system has it"],
  ["light", "light"],
  ["dark", "dark"],
];

interface Station {
  to: string;
  name: string;
  count?: number;
  /** what is wrong there, and in which words */
  bad?: number;
  words?: string;
  title?: string;
}

/** What stands around every station: bar, stations, strip. */
export function Frame({ session, children }: { session: Session; children: ReactNode }) {
  const { id, outline, canEdit, step } = usePlan();
  const [drawer, setDrawer] = useState<Drawer | null>(null);
  const navigate = useNavigate();
  const location = useLocation();
  const [params, setParams] = useSearchParams();
  const about = params.get("history"); // everything that happened to one thing, asked for by the address
  const { scheme, choose } = useScheme();
  const narrow = useMedia(NARROW);
  const small = useMedia(SMALL);
  const base = `/p/${id}`;
  const stands = useStands().data;
  const formats = useFormats().filter((one) => one.of === "plan");
  const off = (stands?.more ?? 0) + (stands?.less ?? 0);
  const agreed = useStanding().data;
  const broken = agreed?.promises.filter((one) => one.broken > 0).length ?? 0;
  const rollout = useRollout(false).data;
  const stations: Station[] = [
    { to: "begin", name: "Begin" },
    { to: "needs", name: "Needs" },
    { to: "people", name: "People", count: outline.users.length },
    { to: "storage", name: "Storage", count: outline.places.length },
    { to: "board", name: "Board", bad: off, words: "not as granted", title: "cells of people who do not get what is granted to them" },
    { to: "shares", name: "Shares", count: outline.shares.length },
    { to: "walk", name: "Walk" },
    { to: "promises", name: "Promises", bad: broken, words: "broken", count: agreed?.promises.length },
    { to: "rollout", name: "Rollout", count: rollout?.total },
  ];
  const at = location.pathname.slice(base.length + 1).split("/")[0] ?? "";
  const exports = [{ key: "report", label: "Access report, to print …" }, ...formats.map((one) => ({ key: one.name, label: one.words }))];
  const takeAway = (key: string) =>
    ["report", "cards", "hand-over"].includes(key)
      ? void navigate(`${base}/${key}`)
      : window.location.assign(`/api/v1/plans/${id}/export/${key}`);

  const whose = (by: string) => (by === session.name ? "" : `${by}: `);

  useEffect(() => {
    document.title = `${outline.name} · Yard Gate`;
  }, [outline.name]);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const key = event.key.toLowerCase();
      const typing = (event.target as HTMLElement | null)?.closest?.(`${TYPED}, [role=dialog]`);
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
      <a
        className="skip"
        href="#station"
        onClick={(event) => {
          event.preventDefault();
          (
            document.querySelector<HTMLElement>("#station [role=grid], #station [role=tree]") ?? document.getElementById("station")
          )?.focus();
        }}
      >
        Skip to the station
      </a>
      <header className="bar">
        <Brand />
        <Tooltip title="All plans">
          <button className="plain plan-name" onClick={() => void navigate("/plans")}>
            {outline.office && <span className="office">{outline.office} · </span>}
            <b>{outline.name}</b>
            {outline.archived && " (archived)"}
          </button>
        </Tooltip>
        <span className="spread" />
        <Others />
        <Find onAct={(act) => (act === "undo" || act === "redo" ? void step(act) : setDrawer(act))} />
        <Menu
          items={[
            { key: "mine", label: "My password and sessions …" },
            ...(session.role === "administrator"
              ? [
                  { key: "accounts", label: "Who may sign in …" },
                  { key: "audit", label: "Audit log …" },
                ]
              : []),
            {
              key: "scheme",
              label: "Light or dark",
              children: SCHEMES.map(([key, label]) => ({ key, label: `${scheme === key ? "✓ " : ""}${label}` })),
            },
            { key: "out", label: "Sign out" },
          ]}
          onChoose={(key) => {
            if (key === "out") void signOut();
            else if (isDrawer(key)) setDrawer(key);
            else choose(key as Scheme);
          }}
        >
          <button className="plain">
            {session.name}
            {outline.may === "reader" && " (reader)"} ▾
          </button>
        </Menu>
      </header>
      <nav className="stations" aria-label="Stations">
        {small ? (
          <select aria-label="Station" value={at} onChange={(event) => void navigate(`${base}/${event.target.value}`)}>
            <option value="look">Look up</option>
            {stations.map((one) => (
              <option key={one.to} value={one.to}>
                {one.name}
                {one.bad ? ` (${one.bad} ${one.words})` : ""}
              </option>
            ))}
            {!["look", ...stations.map((one) => one.to)].includes(at) && <option value={at}>{at}</option>}
          </select>
        ) : (
          stations.map((one) => (
            <NavLink key={one.to} to={`${base}/${one.to}`}>
              {one.name}{" "}
              {one.bad ? (
                <span className="count bad" title={one.title ?? one.words}>
                  {one.bad.toLocaleString()}
                  {narrow ? <span className="sr"> {one.words}</span> : ` ${one.words}`}
                </span>
              ) : (
                one.count !== undefined && <span className="count">{one.count.toLocaleString()}</span>
              )}
            </NavLink>
          ))
        )}
        <span className="spread" />
        <span className="row">
          <Tooltip title={outline.undo ? `Undo: ${whose(outline.undo.by)}${outline.undo.words}` : "Nothing to undo"}>
            <Button size="small" disabled={!canEdit || !outline.undo} onClick={() => void step("undo")}>
              Undo
            </Button>
          </Tooltip>
          <Tooltip title={outline.redo ? `Redo: ${whose(outline.redo.by)}${outline.redo.words}` : "Nothing to redo"}>
            <Button size="small" disabled={!canEdit || !outline.redo} onClick={() => void step("redo")}>
              Redo
            </Button>
          </Tooltip>
          {narrow ? (
            <Menu
              items={[
                { key: "history", label: "History" },
                ...(canEdit ? [{ key: "take-in", label: "Import …" }] : []),
                { key: "export", label: "Export", children: exports },
                { key: "help", label: "Help" },
              ]}
              onChoose={(key) => (isDrawer(key) ? setDrawer(key) : takeAway(key))}
            >
              <Button size="small">More ▾</Button>
            </Menu>
          ) : (
            <>
              <Button size="small" onClick={() => setDrawer("history")}>
                History
              </Button>
              {canEdit && (
                <Button size="small" onClick={() => setDrawer("take-in")}>
                  Import …
                </Button>
              )}
              <Menu items={exports} onChoose={takeAway}>
                <Button size="small">Export ▾</Button>
              </Menu>
              <Button size="small" title="What this is for, its signs, and what words mean" onClick={() => setDrawer("help")}>
                Help
              </Button>
            </>
          )}
        </span>
      </nav>
      <main className="station" id="station" tabIndex={-1}>
        {children}
      </main>
      <Tour />
      <Strip onHistory={() => setDrawer("history")} />
      <Suspense fallback={null}>
        {drawer === "help" && <Help onClose={() => setDrawer(null)} />}
        {(drawer === "history" || about !== null) && (
          <History
            key={about}
            about={about ?? ""}
            onClose={() => {
              setDrawer(null);
              if (about !== null) setParams((old) => changed(old, { history: null }), { replace: true });
            }}
          />
        )}
        {drawer === "take-in" && <TakeIn onClose={() => setDrawer(null)} />}
        {drawer === "accounts" && <Accounts onClose={() => setDrawer(null)} />}
        {drawer === "audit" && <Audit onClose={() => setDrawer(null)} />}
        {drawer === "mine" && <Mine session={session} onClose={() => setDrawer(null)} />}
      </Suspense>
    </div>
  );
}
