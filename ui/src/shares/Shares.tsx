import { useQuery } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type Level, type Share, type WayOut } from "../api/client";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { plural } from "../parts/plural";
import { useSelection } from "../parts/selection";
import { Tick } from "../parts/Tick";
import { Side } from "../parts/Side";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { AddShare } from "./AddShare";
import { Selected } from "./Selected";
import { SharePanel } from "./SharePanel";
import { Services } from "./Services";
import { marks } from "./words";

const LEVELS: Level[] = ["RW", "RO", "PT", "NA"];

/** Shares: what of storage is offered, over what, and who gets in there. */
export default function Shares() {
  const { id, outline, index, canEdit } = usePlan();
  const [params, setParams] = useSearchParams();
  const [adding, setAdding] = useState(() => canEdit && params.get("add") === "share");
  const found = useQuery({
    queryKey: ["of-plan", id, "shares"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/shares", { params: { path: { plan: id } } })),
  });
  const ways = new Map(found.data?.shares.map((share) => [share.share, share.ways]));
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase();
  const all = useMemo(() => [...outline.shares].sort((a, b) => a.name.localeCompare(b.name)), [outline.shares]);
  const shares = all.filter((share) =>
    `${share.name} ${pathName(index, share.place)} ${marks(share).join(" ")}`.toLowerCase().includes(wanted),
  );
  const known = useMemo(() => new Set(all.map((share) => share.id)), [all]);
  const selection = useSelection(
    shares.map((share) => share.id),
    known,
  );
  const whole = shares.length > 0 && shares.every((share) => selection.chosen.has(share.id));
  const chosen = shares.find((share) => share.id === params.get("share")) ?? shares[0];
  const choose = (share: string) => setParams({ share }, { replace: true });
  return (
    <>
      <div className="work">
        {selection.chosen.size > 0 && canEdit ? (
          <Selected selection={selection} shares={all} />
        ) : (
          <div className="tools">
            <span>{plural(all.length, "share")}</span>
            {all.length > 8 && (
              <Input
                size="small"
                allowClear
                placeholder="Only with …"
                aria-label="Only shares with"
                style={{ width: 150 }}
                value={text}
                onChange={(event) => setText(event.target.value)}
              />
            )}
            <Services />
            <span className="spread" />
            {canEdit && (
              <Button size="small" onClick={() => setAdding(true)}>
                Add a share …
              </Button>
            )}
          </div>
        )}
        {found.isError && <div className="trouble">{message(found.error)}</div>}
        {found.data && found.data.unreached.length > 0 && (
          <div className="said">
            No share reaches{" "}
            {found.data.unreached
              .slice(0, 4)
              .map((place) => pathName(index, place))
              .join(", ")}
            {found.data.unreached.length > 4 && ` and ${found.data.unreached.length - 4} more places`}: nobody can get in there.
          </div>
        )}
        {all.length === 0 ? (
          <div className="empty">
            <h2>Nothing is shared yet</h2>
            <p className="muted">
              Without a share nobody reaches the storage, whatever is granted there. A share offers one place, and all below it, under a
              name.
            </p>
            {outline.places.length === 0 ? (
              <Link to={`/p/${id}/storage`}>
                <Button type="primary">Add places first</Button>
              </Link>
            ) : (
              canEdit && (
                <Button type="primary" onClick={() => setAdding(true)}>
                  Add a share …
                </Button>
              )
            )}
          </div>
        ) : (
          <div className="shares">
            <table>
              <thead>
                <tr>
                  {canEdit && (
                    <th style={{ width: 32 }}>
                      <Tick
                        on={whole}
                        label="Choose all shares"
                        onTurn={() => selection.set(whole ? [] : shares.map((share) => share.id))}
                      />
                    </th>
                  )}
                  <th>Share</th>
                  <th>Offers</th>
                  <th>
                    Who gets in{" "}
                    <span className="legend">
                      {LEVELS.map((level) => (
                        <LevelTag key={level} level={level} />
                      ))}
                    </span>
                  </th>
                  <th>Guests</th>
                  <th>Options</th>
                </tr>
              </thead>
              <tbody>
                {shares.map((share) => (
                  <tr key={share.id} className={share.id === chosen?.id ? "chosen" : ""} onClick={() => choose(share.id)}>
                    {canEdit && (
                      <td>
                        <Tick
                          on={selection.chosen.has(share.id)}
                          label={`Choose ${share.name}`}
                          onTurn={(range) => selection.turn(share.id, range)}
                        />
                      </td>
                    )}
                    <td>
                      <button className="plain name" aria-pressed={share.id === chosen?.id} onClick={() => choose(share.id)}>
                        {share.name}
                      </button>
                    </td>
                    <td>{pathName(index, share.place)}</td>
                    <td>
                      {(ways.get(share.id) ?? []).map((way) => (
                        <Bar key={way.protocol} way={way} />
                      ))}
                      {ways.get(share.id)?.length === 0 && <span className="muted">offered over nothing</span>}
                    </td>
                    <td>{guestWord(share, ways.get(share.id))}</td>
                    <td className="muted">{marks(share).join(", ")}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {shares.length === 0 && <p className="muted">No share has “{text}” in its name, place or options.</p>}
          </div>
        )}
      </div>
      <Side label="Share">
        {chosen ? (
          <SharePanel key={chosen.id} share={chosen} ways={ways.get(chosen.id)} />
        ) : (
          <p className="muted">Choose a share to see who gets in, and how clients connect to it.</p>
        )}
      </Side>
      {adding && (
        <AddShare
          onClose={(share) => {
            setAdding(false);
            if (share) choose(share);
          }}
        />
      )}
    </>
  );
}

/** How many get what, over one protocol. */
function Bar({ way }: { way: WayOut }) {
  const name = way.protocol.toUpperCase();
  const total = LEVELS.reduce((sum, level) => sum + (way.counts[level] ?? 0), 0);
  const words = LEVELS.filter((level) => level !== "NA" && way.counts[level])
    .map((level) => `${way.counts[level]!.toLocaleString()} ${WORDS[level]}`)
    .join(", ");
  return (
    <div className="bar-row" title={`${name}: ${words || "nobody"}`}>
      <span className="way">{name}</span>
      {way.on && !words ? (
        <span className="late">nobody</span>
      ) : way.on ? (
        <span className="bars" role="img" aria-label={`over ${name}: ${words || "nobody"}`}>
          {LEVELS.map((level) =>
            way.counts[level] ? (
              <span key={level} className={level} style={{ flexGrow: way.counts[level]! / total }}>
                {way.counts[level]!.toLocaleString()}
              </span>
            ) : null,
          )}
        </span>
      ) : (
        <span className="late">switched off</span>
      )}
    </div>
  );
}

function guestWord(share: Share, ways: WayOut[] | undefined) {
  const gets = ways?.find((way) => way.protocol === "smb")?.guest;
  if (!share.smb || share.guests === "NA") return <span className="muted">no</span>;
  if (!gets || gets === share.guests) return WORDS[share.guests];
  return (
    <span className="late" title="The share lets guests in; storage does not give them that">
      {WORDS[share.guests]}, gets {WORDS[gets]}
    </span>
  );
}
