import { AutoComplete, Input } from "antd";
import type { InputRef } from "antd";
import { useDeferredValue, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { useLocation, useNavigate, useSearchParams } from "react-router";
import type { Outline, User } from "../api/client";
import { calledName, isLocal, pathName, shownName } from "../plan/index";
import { TYPED } from "../parts/focus";
import { usePlan } from "../plan/PlanContext";

/** Every other name that an account can be found by: NAME\\account, account@domain, aliases. */
function signIns(user: User, outline: Outline): string {
  const directory = outline.directories.find((one) => one.id === user.origin);
  return [...(user.aliases ?? []), ...(directory ? [`${directory.name}\\${user.name}`, `${user.name}@${directory.domain}`] : [])].join(" ");
}

/** What can be done from anywhere: in words, and where it is done. */
const ACTS: [words: string, path: string, edits: boolean][] = [
  ["Begin: what comes next", "begin", false],
  ["People", "people", false],
  ["Storage", "storage", false],
  ["Board", "board", false],
  ["Who does not get what is granted", "board?view=off", false],
  ["Personal grants on the board", "board?cells=personal", false],
  ["Who gets otherwise than needed", "board?cells=needs", false],
  ["Shares", "shares", false],
  ["Walk as somebody", "walk", false],
  ["Promises", "promises", false],
  ["Findings", "promises?show=findings", false],
  ["Rollout: the steps", "rollout", false],
  ["Add a person", "people?add=person", true],
  ["Add a service", "people?add=service", true],
  ["Add a group", "people?add=group", true],
  ["Add a pool", "storage?add=pool", true],
  ["Add a share", "shares?add=share", true],
  ["Passwords and sessions", "rollout?signin=", true],
  ["Go back to a snapshot", "rollout?snapshots=", true],
  ["Access report to print", "report", false],
  ["Cards to print", "cards", false],
  ["Papers to hand over", "hand-over", false],
  ["Look up on a small screen", "look", false],
];

/** Find a person, group, place or share, or something to do, from anywhere by "/" or Ctrl+K. */
export function Find({ onAct }: { onAct: (act: "history" | "take-in" | "help" | "undo" | "redo") => void }) {
  const { id, outline, index, canEdit } = usePlan();
  const [text, setText] = useState("");
  const settled = useDeferredValue(text);
  const navigate = useNavigate();
  const location = useLocation();
  const [params] = useSearchParams();
  const input = useRef<InputRef>(null);
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      const element = event.target as HTMLElement;
      const typing = element.closest(`${TYPED}, [role=dialog]`);
      const anywhere = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k";
      if (!anywhere && (event.key !== "/" || event.ctrlKey || event.metaKey || typing)) return;
      event.preventDefault();
      input.current?.focus();
      input.current?.select();
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
    for (const [words, path, edits] of ACTS) if (canEdit || !edits) add(`go ${path}`, words, edits ? "do it" : "go there");
    add("act history", "History", "what was changed");
    add("act help", "Help", "signs, words, keys");
    if (canEdit) {
      add("act take-in", "Import", "people, a file server, a plan");
      if (outline.undo) add("act undo", "Undo", outline.undo.words);
      if (outline.redo) add("act redo", "Redo", outline.redo.words);
    }
    return found.sort((a, b) => a.rank - b.rank).slice(0, 30);
  }, [settled, outline, index, canEdit]);
  const go = (value: string) => {
    const [kind, ...rest] = value.split(" ");
    const target = rest.join(" ");
    setText("");
    input.current?.blur();
    if (kind === "act") return onAct(target as Parameters<typeof onAct>[0]);
    if (kind === "go") return void navigate(`/p/${id}/${target}`);
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
        placeholder="Find anything, or do it"
        aria-label="Find a person, group, place or share, or something to do"
        suffix={<kbd title="or Ctrl+K">/</kbd>}
      />
    </AutoComplete>
  );
}
