import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type Level } from "../api/client";
import { ArmSign, LevelTag, WORDS } from "../parts/ArmSign";
import { Link } from "react-router";
import { cellsWords } from "../parts/Changes";
import { pathName, whoName } from "../plan/index";
import type { Seen } from "../plan/columns";
import { usePlan } from "../plan/PlanContext";
import { Remedies } from "../promises/Remedies";
import { checkThere } from "../rollout/checkThere";
import { PromiseThis } from "../promises/PromiseThis";
import { useStanding } from "../plan/queries";
import { Gates } from "./Gates";

/** Why somebody gets what they get in a place, gate by gate, and what could be set instead. */
export function WhyPanel({
  who,
  place,
  over,
  onSet,
  onWould,
}: {
  who: string;
  place: string;
  over?: Seen;
  onSet: (level: Level | null) => void;
  onWould: (level: Level | null | undefined) => void;
}) {
  const { id, outline, index, canEdit, edit } = usePlan();
  const known = index.places.has(place) && (index.users.has(who) || index.groups.has(who));
  const reason = useQuery({
    queryKey: ["of-plan", id, "reason", who, place, over],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/reason", { params: { path: { plan: id }, query: { subject: who, place, over } } })),
    enabled: known,
    placeholderData: (old) => (old?.reason.subject === who && old.reason.place === place ? old : undefined),
  });
  const own = outline.grants[place]?.find((line) => line.who === who)?.level ?? null;
  const isUser = index.users.has(who);
  const instead = useQuery({
    queryKey: ["of-plan", id, "instead", who, place, own],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/instead", { params: { path: { plan: id }, query: { who, place, level: own! } } })),
    enabled: known && isUser && own !== null,
  });
  const found = reason.data?.reason;
  const stands = reason.data?.stands;
  const shareName = (share: string) => outline.shares.find((one) => one.id === share)?.name ?? share;
  const [wanted, setWanted] = useState<Level | null>(null);
  const broken =
    useStanding().data?.promises.filter((one) => one.promise.place === place && one.breaches.some((breach) => breach.subject === who)) ??
    [];

  return (
    <>
      <h2 tabIndex={-1}>
        {whoName(index, who)} → {index.places.get(place)?.name}
      </h2>
      <div className="muted" style={{ marginBottom: 8 }}>
        {pathName(index, place)}
      </div>
      {found && (
        <div className="row" style={{ marginBottom: 8 }}>
          {stands === "not shared" ? <b>no share leads here</b> : <LevelTag level={found.level} long />}
          <span className={stands === "more" || stands === "less" ? "late" : "muted"}>
            {reason.data!.words}
            {stands === "more" || stands === "less" || stands === "not shared" ? `: granted ${WORDS[reason.data!.granted!]}` : ""}
          </span>
          {found.odd && (
            <span className="muted" title="The rights here are none of the usual sets">
              odd rights
            </span>
          )}
          {found.keeper && (
            <span className="muted" title="May change the list or the owner, and so take every right">
              keeper
            </span>
          )}
        </div>
      )}
      {who === "guest" ? (
        <p>
          Who comes without an account gets what the share lets guests do, as far as the storage list lets them:{" "}
          <Link to={`/p/${id}/walk?as=guest~smb~&place=${encodeURIComponent(place)}`}>walk there as a guest</Link>.
        </p>
      ) : (
        <>
          {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- each button shows the same on focus */}
          <div
            className="sets"
            role="group"
            aria-label={`Set what ${whoName(index, who)} is granted here`}
            onMouseLeave={() => onWould(undefined)}
          >
            {(["RW", "RO", "NA", null] as const).map((level) => (
              <button
                key={level ?? "none"}
                type="button"
                className={level ?? ""}
                disabled={!canEdit}
                aria-pressed={own === level}
                title={`${level ? WORDS[level] : "not set"}: point here to see what would change`}
                onClick={() => onSet(level)}
                onMouseEnter={() => onWould(level)}
                onFocus={() => onWould(level)}
                onBlur={() => onWould(undefined)}
              >
                {level ? <ArmSign level={level} /> : <span style={{ width: 8 }} />}
                {level ?? "not set"}
              </button>
            ))}
          </div>
          <p className="muted" style={{ margin: "2px 0 10px" }}>
            {own === null
              ? `No grant of ${isUser ? "their own" : "its own"} here.`
              : isUser
                ? `A personal grant: ${WORDS[own]}.`
                : `Granted here: ${WORDS[own]}.`}
          </p>
        </>
      )}
      {who === "everyone" && <p>A grant to everyone concerns every person and service.</p>}
      {reason.isError && <div className="trouble">{message(reason.error)}</div>}
      {known && !found && !reason.isError && (
        <div className="muted" role="status">
          Asking why …
        </div>
      )}
      {reason.data && (reason.data.ways ?? []).length > 0 && (
        <>
          <div className="muted">
            {reason.data.over
              ? `As seen over ${reason.data.over.protocol.toUpperCase()}, through ${shareName(reason.data.over.share)}. By share:`
              : "What grants and storage alone would give. By share:"}
          </div>
          <ul className="cells">
            {reason.data.ways!.map((way) => (
              <li key={`${way.share} ${way.protocol}`}>
                <span className="who">
                  <Link
                    to={`/p/${id}/walk?as=${encodeURIComponent(who)}~${way.protocol}~&share=${encodeURIComponent(way.share)}&place=${encodeURIComponent(place)}`}
                  >
                    {way.protocol.toUpperCase()}, {shareName(way.share)}
                  </Link>
                </span>
                <LevelTag level={way.level} />
              </li>
            ))}
          </ul>
        </>
      )}
      {over !== "storage" && outline.shares.length > 0 && reason.data?.ways?.length === 0 && (
        <p className="late">No share leads here, so nobody gets in. What follows is what grants and storage would give.</p>
      )}
      {found && (
        <Gates
          reason={found}
          top={reason.data?.over ? outline.shares.find((share) => share.id === reason.data!.over!.share)?.place : undefined}
        />
      )}
      <OwnFolder place={place} who={who} />
      {(reason.data?.assumed ?? []).map((one) => (
        <p key={`${one.question} ${one.happens}`} className="said">
          <span>
            <b>Not known of this appliance:</b> {one.title.toLowerCase()}. If it is “{one.happens}”, they get {WORDS[one.level]} here.{" "}
            <Link to={`/p/${id}/begin`}>How to find out</Link>
          </span>
        </p>
      ))}
      {broken.map(({ promise, words }) => (
        <div key={promise.id} className="trouble">
          Broken here: <Link to={`/p/${id}/promises?chosen=${encodeURIComponent(promise.id)}`}>{words}</Link>
        </div>
      ))}
      {found && who !== "everyone" && (
        <>
          {isUser && (
            <>
              <h3>What would it take</h3>
              <div className="sets" role="group" aria-label="The level that is wanted, whatever it takes">
                {(["RW", "RO", "NA"] as const).map((level) => (
                  <button
                    key={level}
                    type="button"
                    className={level}
                    aria-pressed={wanted === level}
                    disabled={found.level === level}
                    onClick={() => setWanted(wanted === level ? null : level)}
                  >
                    <ArmSign level={level} /> {level}
                  </button>
                ))}
              </div>
              {wanted && (
                <Remedies
                  key={wanted}
                  who={who}
                  place={place}
                  low={wanted > found.level ? wanted : "NA"}
                  high={wanted > found.level ? "RW" : wanted}
                />
              )}
            </>
          )}
          {isUser && canEdit && reason.data?.over && (
            <p>
              <Link to={checkThere(id, outline, index, who, reason.data.over, place)}>
                Is it different in practice? Look it up on the appliance
              </Link>
            </p>
          )}
          <PromiseThis who={who} place={place} level={found.level} />
        </>
      )}
      {instead.data && instead.data.length > 0 && (
        <>
          <h3>By a group instead</h3>
          {instead.data.slice(0, 3).map((offer) => (
            <div key={offer.who} className="offer">
              <span>
                <b>
                  {offer.name}: {WORDS[offer.level]}
                </b>
                <br />
                <span className="muted">
                  {offer.others.total === 0 ? "changes it for nobody else" : `also changes ${cellsWords(offer.others)}`}
                </span>
              </span>
              <Button
                size="small"
                disabled={!canEdit}
                onClick={() =>
                  void edit([
                    { op: "set-grant", place, who, level: null, at: null },
                    { op: "set-grant", place, who: offer.who, level: offer.level, at: null },
                  ])
                }
              >
                Do that instead
              </Button>
            </div>
          ))}
        </>
      )}
    </>
  );
}

/** In a place of personal folders: where somebody's own is. */
function OwnFolder({ place, who }: { place: string; who: string }) {
  const { id, index } = usePlan();
  const own = index.places.get(place)?.personal_folders ? index.children.get(place)?.find((one) => one.folder_of === who) : undefined;
  if (!own) return null;
  return (
    <p>
      Their own folder in it:{" "}
      <Link to={`/p/${id}/board?who=${encodeURIComponent(who)}&place=${encodeURIComponent(own.id)}`}>{pathName(index, own.id)}</Link>
    </p>
  );
}
