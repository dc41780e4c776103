import { useQuery } from "@tanstack/react-query";
import { Button, Input, Segmented } from "antd";
import { useEffect, useState, useSyncExternalStore } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type Level } from "../api/client";
import { Gates } from "../board/Gates";
import { STATES } from "../board/looks";
import { LevelTag } from "../parts/ArmSign";
import { when } from "../parts/time";
import { calledName, pathName, shownName, shutWord, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useStanding } from "../plan/queries";

type What = "people" | "places" | "findings" | "history";
const MOST = 60;
const ORDER: Level[] = ["RW", "RO", "PT", "NA"];

/** To look something up with one hand: a person and what they reach, a place and who gets in, findings, the history. Nothing is changed here. */
export default function Lookup() {
  const [params, setParams] = useSearchParams();
  const what = (["people", "places", "findings", "history"] as const).find((one) => one === params.get("what")) ?? "people";
  const [who, place] = [params.get("who"), params.get("place")];
  const go = (next: Record<string, string>) => setParams(next);
  if (who && place) return <Why who={who} place={place} />;
  if (who) return <Person who={who} onPlace={(one) => go({ who, place: one })} />;
  if (place) return <PlaceOf place={place} onWho={(one) => go({ who: one, place })} />;
  return (
    <div className="lookup">
      <Segmented
        block
        aria-label="What to look up"
        value={what}
        onChange={(next) => go({ what: next })}
        options={[
          { value: "people", label: "People" },
          { value: "places", label: "Places" },
          { value: "findings", label: "Findings" },
          { value: "history", label: "History" },
        ]}
      />
      {what === "people" && <Choose label="people" onChoose={(one) => go({ who: one })} />}
      {what === "places" && <Choose label="places" onChoose={(one) => go({ place: one })} />}
      {what === "findings" && <Findings />}
      {what === "history" && <Past />}
    </div>
  );
}

function Choose({ label, onChoose }: { label: Extract<What, "people" | "places">; onChoose: (id: string) => void }) {
  const { index, outline } = usePlan();
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase();
  const all =
    label === "people"
      ? index.usersByName.map((user) => ({
          id: user.id,
          name: shownName(user),
          detail: `${calledName(index, user.id)} ${shutWord(user, index)}`.trim(),
        }))
      : outline.places.map((one) => ({ id: one.id, name: one.name, detail: pathName(index, one.id) }));
  const found = all.filter((one) => `${one.name} ${one.detail}`.toLowerCase().includes(wanted));
  return (
    <>
      <Input
        size="large"
        allowClear
        placeholder={label === "people" ? "Name" : "Folder"}
        aria-label={`Find ${label}`}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <ul className="big">
        {found.slice(0, MOST).map((one) => (
          <li key={one.id}>
            <button className="plain" onClick={() => onChoose(one.id)}>
              <b>{one.name}</b>
              <span className="muted">{one.detail}</span>
            </button>
          </li>
        ))}
      </ul>
      {found.length > MOST && <p className="muted">{(found.length - MOST).toLocaleString()} more: write more of the name.</p>}
      {found.length === 0 && <p className="muted">Nothing has “{text}” in its name.</p>}
    </>
  );
}

function Back({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="row back">
      <Button onClick={() => window.history.back()} aria-label="Back">
        ‹
      </Button>
      <h1>{title}</h1>
      <span className="spread" />
      {children}
    </div>
  );
}

function Person({ who, onPlace }: { who: string; onPlace: (place: string) => void }) {
  const { id, index, outline } = usePlan();
  const card = useQuery({
    queryKey: ["of-plan", id, "card", who],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/card", { params: { path: { plan: id }, query: { who } } })),
  });
  const user = index.users.get(who);
  const groups = (index.groupsOf.get(who) ?? []).map((group) => index.groups.get(group)?.name);
  const shut = user && shutWord(user, index);
  return (
    <div className="lookup">
      <Back title={whoName(index, who)}>
        <Link className="ant-btn ant-btn-default big-link" to={`/p/${id}/card/${encodeURIComponent(who)}`}>
          Card
        </Link>
      </Back>
      <p className="muted">
        {user?.name}
        {shut && <b className="late"> · {shut}</b>}
        {groups.length > 0 && ` · in ${groups.join(", ")}`}
      </p>
      {card.isError && <div className="trouble">{message(card.error)}</div>}
      {!card.data && !card.isError && <p role="status">Working out what they reach …</p>}
      {card.data?.reaches.length === 0 && <p>They reach nothing over any share.</p>}
      {card.data?.reaches.map((reach) => (
        <section key={`${reach.share} ${reach.protocol}`}>
          <h2>
            {outline.shares.find((share) => share.id === reach.share)?.name} <span className="muted">{reach.protocol.toUpperCase()}</span>
          </h2>
          <ul className="big">
            {reach.stretches.map((stretch) => (
              <li key={stretch.place}>
                <button className="plain" onClick={() => onPlace(stretch.place)}>
                  <b>{index.places.get(stretch.place)?.name}</b>
                  <LevelTag level={stretch.level} long />
                </button>
              </li>
            ))}
          </ul>
        </section>
      ))}
      <p className="muted">Tap a place to see why.</p>
    </div>
  );
}

function PlaceOf({ place, onWho }: { place: string; onWho: (who: string) => void }) {
  const { index, columns: out } = usePlan();
  const version = useSyncExternalStore(out.subscribe, out.getVersion);
  useEffect(() => out.need([place]), [out, place, version]);
  const cells = index.usersByName.map((user) => ({ user, cell: out.cell(place, index.number.get(user.id)) }));
  const waiting = cells.some(({ cell }) => !cell);
  const unshared = cells[0]?.cell?.state === "u";
  return (
    <div className="lookup">
      <Back title={index.places.get(place)?.name ?? place} />
      <p className="muted">{pathName(index, place)}</p>
      {waiting && <p role="status">Asking who gets in …</p>}
      {unshared && <p className="late">No share leads here: nobody gets in.</p>}
      {!waiting &&
        !unshared &&
        ORDER.map((level) => {
          const there = cells.filter(({ cell }) => cell!.level === level);
          if (there.length === 0) return null;
          return (
            <details key={level} open={level !== "NA"}>
              <summary>
                <LevelTag level={level} long /> {there.length.toLocaleString()}
              </summary>
              <ul className="big">
                {there.map(({ user, cell }) => (
                  <li key={user.id}>
                    <button className="plain" onClick={() => onWho(user.id)}>
                      <b>{shownName(user)}</b>
                      <span className={"+<".includes(cell!.state) ? "late" : "muted"}>
                        {"+<".includes(cell!.state) ? STATES[cell!.state] : shutWord(user, index)}
                      </span>
                    </button>
                  </li>
                ))}
              </ul>
            </details>
          );
        })}
    </div>
  );
}

function Why({ who, place }: { who: string; place: string }) {
  const { id, index } = usePlan();
  const reason = useQuery({
    queryKey: ["of-plan", id, "reason", who, place, undefined],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/reason", { params: { path: { plan: id }, query: { subject: who, place } } })),
  });
  return (
    <div className="lookup">
      <Back title={`${whoName(index, who)} → ${index.places.get(place)?.name ?? place}`} />
      {reason.isError && <div className="trouble">{message(reason.error)}</div>}
      {!reason.data && !reason.isError && <p role="status">Asking why …</p>}
      {reason.data && (
        <>
          <p>
            <LevelTag level={reason.data.reason.level} long />{" "}
            <span className={reason.data.stands === "more" || reason.data.stands === "less" ? "late" : "muted"}>{reason.data.words}</span>
          </p>
          <Gates reason={reason.data.reason} />
        </>
      )}
    </div>
  );
}

function Findings() {
  const found = useStanding();
  const open = found.data?.findings.filter((one) => one.open) ?? [];
  const broken = found.data?.promises.filter((one) => one.broken > 0) ?? [];
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data) return <p role="status">Looking …</p>;
  return (
    <ul className="big">
      {broken.map((one) => (
        <li key={one.promise.id} className="said-line">
          <b className="late">promise broken</b>
          <span>{one.words}</span>
        </li>
      ))}
      {open.map((one) => (
        <li key={one.id} className="said-line">
          <b className={one.severity === "serious" ? "late" : ""}>{one.title}</b>
          <span>{one.sentence}</span>
        </li>
      ))}
      {open.length + broken.length === 0 && <li>Nothing found, and every promise is kept.</li>}
    </ul>
  );
}

function Past() {
  const { id } = usePlan();
  const entries = useQuery({
    queryKey: ["of-plan", id, "history", "lookup"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/history", { params: { path: { plan: id }, query: { most: MOST } } })),
  });
  if (entries.isError) return <div className="trouble">{message(entries.error)}</div>;
  if (!entries.data) return <p role="status">Reading the journal …</p>;
  return (
    <ul className="big">
      {entries.data.map((entry) => (
        <li key={entry.revision} className="said-line">
          <span className="muted">
            {when(entry.at)} · {entry.by}
          </span>
          <span>{entry.words}</span>
        </li>
      ))}
    </ul>
  );
}
