import { useQueries } from "@tanstack/react-query";
import { App, Button, Input, Select, Upload } from "antd";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, ask, message, type Level, type Schemas, type Share } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { calledName, hostPath, shownName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { connections, reachedAs } from "../shares/words";
import { ENGLISH, fill, translation, type Words } from "./words";

type Reach = Schemas["ReachOut"];
type System = "windows" | "mac" | "linux" | "mount";
const SYSTEMS: { value: System; label: string; line: string }[] = [
  { value: "windows", label: "Windows", line: "Windows" },
  { value: "mac", label: "macOS", line: "macOS, Linux desktops" },
  { value: "linux", label: "Linux, by hand", line: "macOS, Linux desktops" },
  { value: "mount", label: "Linux, /etc/fstab", line: "Linux, /etc/fstab" },
];
const MOST = 200; // cards at once

/** What is kept in this browser of how cards look: for which system, in which words, and whom to ask. */
function kept(plan: string): { system: System; words: Words; helper: string } {
  const words = translation(localStorage.getItem("card words") ?? "");
  return {
    system: (localStorage.getItem("card system") as System | null) ?? "windows",
    words: "trouble" in words ? ENGLISH : words,
    helper: localStorage.getItem(`card ask ${plan}`) ?? "",
  };
}

/** What the cards of some people need, as it comes. */
function useCards(whos: string[]) {
  const { id } = usePlan();
  return useQueries({
    queries: whos.map((who) => ({
      queryKey: ["of-plan", id, "card", who],
      queryFn: () => ask(api.GET("/api/v1/plans/{plan}/card", { params: { path: { plan: id }, query: { who } } })),
    })),
  });
}

/** The cards of people who were given new passwords, each with its own. The passwords are kept nowhere but here. */
export function CardsWithPasswords({ given }: { given: Schemas["GivenPassword"][] }) {
  const { id } = usePlan();
  const { system, words, helper } = kept(id);
  const cards = useCards(given.map((one) => one.user));
  const failed = cards.find((card) => card.isError);
  return (
    <>
      {failed && <div className="trouble">{message(failed.error)}</div>}
      {given.map((one, number) => (
        <Card
          key={one.user}
          who={one.user}
          card={cards[number]?.data}
          words={words}
          system={system}
          helper={helper.trim()}
          password={one.password}
        />
      ))}
    </>
  );
}

/** Cards to print, or to send: for each of some people what they reach, and how they get there, and nothing else. */
export default function Cards() {
  const { id, outline, index } = usePlan();
  const { message: toast } = App.useApp();
  const { who: one } = useParams();
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const whos = one
    ? [one]
    : (params.get("who") ?? "")
        .split(",")
        .filter((who) => who === "guest" || index.users.has(who))
        .slice(0, MOST);
  const [system, setSystem] = useState<System>(() => kept(id).system);
  const [words, setWords] = useState<Words>(() => kept(id).words);
  const [helper, setHelper] = useState(() => kept(id).helper);
  const cards = useCards(whos);
  const failed = cards.find((card) => card.isError);
  const options = [
    ...index.usersByName.map((user) => ({ value: user.id, label: shownName(user) })),
    { value: "guest", label: "A guest, without an account" },
  ];
  const load = async (file: File) => {
    const text = await file.text();
    const found = translation(text);
    if ("trouble" in found) return void toast.error(found.trouble, 8);
    localStorage.setItem("card words", text);
    setWords(found);
  };
  const people = outline.users.filter((user) => (user.kind ?? "person") === "person" && !outline.inactive.includes(user.id));
  const open = (next: string[]) =>
    void navigate(
      next.length === 1 ? `/p/${id}/card/${encodeURIComponent(next[0]!)}` : `/p/${id}/cards?who=${next.map(encodeURIComponent).join(",")}`,
    );
  return (
    <div className="work sheets">
      <div className="tools no-print">
        <Select
          aria-label="Whose card"
          size="small"
          mode="multiple"
          maxTagCount={2}
          style={{ minWidth: 220, maxWidth: 380 }}
          placeholder="Whose cards"
          showSearch={{ optionFilterProp: "label" }}
          value={whos}
          options={options}
          onChange={open}
        />
        <Button size="small" onClick={() => open(people.slice(0, MOST).map((user) => user.id))}>
          All {Math.min(people.length, MOST).toLocaleString()} people
        </Button>
        <Select
          size="small"
          aria-label="For which system"
          popupMatchSelectWidth={false}
          value={system}
          onChange={(next) => {
            localStorage.setItem("card system", next);
            setSystem(next);
          }}
          options={SYSTEMS.map(({ value, label }) => ({ value, label }))}
        />
        <Input
          size="small"
          style={{ width: 150 }}
          aria-label="Whom to ask"
          placeholder="whom to ask, on the card"
          value={helper}
          onChange={(event) => {
            localStorage.setItem(`card ask ${id}`, event.target.value);
            setHelper(event.target.value);
          }}
        />
        {words === ENGLISH ? (
          <>
            <Upload accept=".json,.txt" showUploadList={false} beforeUpload={(file) => (void load(file), false)}>
              <Button size="small">Another language …</Button>
            </Upload>
            <a
              download="card-words.json"
              href={`data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(ENGLISH, null, 2))}`}
            >
              Words to translate
            </a>
          </>
        ) : (
          <Button
            size="small"
            onClick={() => {
              localStorage.removeItem("card words");
              setWords(ENGLISH);
            }}
          >
            In English
          </Button>
        )}
        <span className="spread" />
        <Button size="small" type="primary" onClick={() => window.print()}>
          Print, or save as PDF …
        </Button>
      </div>
      {failed && <div className="trouble">{message(failed.error)}</div>}
      {whos.length === 0 && (
        <div className="empty">
          <h2>Whose cards?</h2>
          <p className="muted">Choose people above; each card is a page of its own.</p>
        </div>
      )}
      {whos.map((who, number) => (
        <Card key={who} who={who} card={cards[number]?.data} words={words} system={system} helper={helper.trim()} />
      ))}
    </div>
  );
}

function Card({
  who,
  card,
  words,
  system,
  helper,
  password,
}: {
  who: string;
  card: Schemas["CardOut"] | undefined;
  words: Words;
  system: System;
  helper: string;
  password?: string;
}) {
  const { outline, index } = usePlan();
  const user = index.users.get(who);
  const server = reachedAs(outline);
  const reaches = card?.reaches.filter((reach) => reach.stretches.some((stretch) => stretch.level !== "NA")) ?? [];
  const machine = user?.kind === "service";
  const wanted = SYSTEMS.find((one) => one.value === (machine ? "mount" : system))!;
  return (
    <article className="paper card-page">
      <header>
        <div>
          <h1>{user ? shownName(user) : words.guest}</h1>
          <p>{fill(words.title, { server })}</p>
        </div>
        <div className="issued">
          <span>
            {outline.office && `${outline.office} · `}
            {outline.name}
          </span>
          {card && <span>{new Date(`${card.on}T12:00:00`).toLocaleDateString(undefined, { dateStyle: "long" })}</span>}
        </div>
      </header>
      {user && (
        <section className="first">
          <b>{words.first}</b>
          <span>
            {fill(words.account, { account: calledName(index, who) })}{" "}
            {password === undefined ? !machine && words.password : <Password words={words.given} password={password} />}
          </span>
          {outline.inactive.includes(who) && <b className="late">{words.shut}</b>}
          {reaches.length > 0 && <span>{words[wanted.value]}</span>}
        </section>
      )}
      {!card && <p role="status">Working out what they reach …</p>}
      {card && reaches.length === 0 && <p>{words.nothing}</p>}
      {reaches.map((reach) => (
        <Block
          key={`${reach.share} ${reach.protocol}`}
          reach={reach}
          share={outline.shares.find((share) => share.id === reach.share)!}
          line={wanted.line}
          words={words}
        />
      ))}
      {helper && <p className="ask">{fill(words.ask, { ask: helper })}</p>}
    </article>
  );
}

/** The words about a new password, in which it stands to be read letter by letter. */
function Password({ words, password }: { words: string; password: string }) {
  const [before, after] = words.split("{password}");
  return (
    <>
      {before}
      <code className="password">{password}</code>
      {after}
    </>
  );
}

function Block({ reach, share, line, words }: { reach: Reach; share: Share; line: string; words: Words }) {
  const { outline, index } = usePlan();
  const [top, ...below] = reach.stretches;
  const folder = hostPath(index, outline.top, share.place);
  const nfs = reach.protocol === "nfs";
  const lines = connections({ ...share, smb: !nfs, nfs }, reachedAs(outline), folder);
  const typed = (nfs ? lines[0] : lines.find(([system]) => system === line))?.[1];
  const says = (level: Level) => (level === "NA" ? "" : words[level]);
  const open = below.filter((stretch) => stretch.level !== "NA");
  return (
    <section className="reach">
      <h2>
        {share.name} {nfs && <span className="muted">NFS</span>}
        <span className="spread" />
        {top && <LevelTag level={top.level} />}
      </h2>
      <p>
        <code className="typed">{typed}</code>
      </p>
      <p>
        {top && says(top.level)}
        {!nfs && share.hidden && `. ${words.hidden}`}
      </p>
      {open.length > 0 && (
        <p>
          {words.except}{" "}
          {open.map((stretch, number) => (
            <span key={stretch.place}>
              {number > 0 && "; "}
              <b>{index.places.get(stretch.place)?.name ?? stretch.place}</b> {says(stretch.level)}
            </span>
          ))}
        </p>
      )}
      {open.length < below.length && <p className="muted">{words.closed}</p>}
    </section>
  );
}
