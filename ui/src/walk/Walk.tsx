import { useQueries } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { changed } from "../parts/address";
import { api, ask, message, type Share, type VisitOut, type WalkOut } from "../api/client";
import { ArmSign } from "../parts/ArmSign";
import { Side } from "../parts/Side";
import { usePlan } from "../plan/PlanContext";
import { PROTOCOLS, reachedAs } from "../shares/words";
import { useWhos } from "../storage/editors";
import { Everyone } from "./Everyone";
import { Refused } from "./Refused";
import { claims, CLIENTS, decoded, encoded, hostOf, type Client, type Walker } from "./walkers";
import { finding } from "./words";

const GUEST = [{ value: "guest", label: "A guest, or a name that nobody has" }];
const MOST = 4; // walkers side by side

/** Walking through the shares as somebody, or as several side by side. */
export default function Walk() {
  const { id, outline, index } = usePlan();
  const [params, setParams] = useSearchParams();
  const first = outline.users.find((user) => !outline.inactive.includes(user.id));
  const walkers: Walker[] = params.has("as")
    ? decoded(params.get("as")!)
    : first
      ? [{ who: first.id, protocol: "smb", host: "", client: "windows" }]
      : [];
  const [share, place] = [params.get("share"), params.get("place")];
  const [chosen, setChosen] = useState<{ column: number; place: string; share: string } | null>(null);
  const found = useQueries({
    queries: walkers.map((walker) => {
      const query = { who: walker.who, protocol: walker.protocol, ...hostOf(walker) };
      return {
        queryKey: ["of-plan", id, "walk", query],
        queryFn: () => ask(api.GET("/api/v1/plans/{plan}/walk", { params: { path: { plan: id }, query } })),
      };
    }),
  });
  const put = (change: Record<string, string | null>) => setParams((old) => changed(old, change), { replace: !("place" in change) });
  const setWalkers = (next: Walker[]) => {
    setChosen(null);
    put({ as: encoded(next) });
  };
  const go = (toShare: string | null, toPlace: string | null) => {
    setChosen(null);
    put({ share: toShare, place: toPlace });
  };
  const here = outline.shares.find((one) => one.id === share);
  const at = here ? (place ?? here.place) : null;
  const steps = here && at ? path(at, here.place, index.places) : [];

  const rows =
    here && at
      ? (index.children.get(at) ?? []).map((one) => ({ key: one.id, name: one.name, share: here.id, place: one.id, folder: true }))
      : [...outline.shares]
          .sort((a, b) => a.name.localeCompare(b.name))
          .map((one) => ({ key: one.id, name: one.name, share: one.id, place: one.place, folder: true }));
  const visit = (column: number, rowShare: string, rowPlace: string): VisitOut | undefined =>
    shareOf(found[column]?.data, rowShare)?.visits.find((one) => one.place === rowPlace);
  const picked =
    chosen && walkers[chosen.column]
      ? {
          ...chosen,
          walker: walkers[chosen.column]!,
          visit: visit(chosen.column, chosen.share, chosen.place),
          listed: listedTo(walkers[chosen.column]!, found[chosen.column]?.data, chosen.share, outline.shares),
        }
      : null;
  const broken = found.find((one) => one.isError);
  return (
    <>
      <div className="work">
        <div className="tools">
          <nav aria-label="Where one stands" className="row trail">
            <button className="plain" disabled={!here} onClick={() => go(null, null)}>
              \\{reachedAs(outline)}
            </button>
            {here &&
              steps.map((step, number) => (
                <span key={step}>
                  ›{" "}
                  <button className="plain" disabled={step === at} onClick={() => go(here.id, step)}>
                    {number === 0 ? here.name : index.places.get(step)?.name}
                  </button>
                </span>
              ))}
          </nav>
          <span className="spread" />
          <Button
            size="small"
            type={params.has("everyone") ? "primary" : "default"}
            aria-pressed={params.has("everyone")}
            onClick={() => put({ everyone: params.has("everyone") ? null : "1" })}
          >
            Try everyone
          </Button>
          {!params.has("everyone") && walkers.length < MOST && (
            <Button
              size="small"
              onClick={() =>
                setWalkers([
                  ...walkers,
                  {
                    who: outline.users.find((user) => !walkers.some((one) => one.who === user.id))?.id ?? "guest",
                    protocol: "smb",
                    host: "",
                    client: "windows",
                  },
                ])
              }
            >
              Compare with somebody
            </Button>
          )}
        </div>
        {broken && <div className="trouble">{message(broken.error)}</div>}
        {outline.shares.length === 0 ? (
          <div className="empty">
            <h2>There is nothing to walk through yet</h2>
            <p className="muted">One gets in through a share.</p>
            <Link to={`/p/${id}/shares`}>
              <Button type="primary">Add a share</Button>
            </Link>
          </div>
        ) : params.has("everyone") ? (
          <Everyone
            onWalk={(who, to) => {
              const protocol = shareAt(outline.shares, index.places, to, "smb") ? "smb" : "nfs";
              setParams({
                as: encoded([{ who, protocol, host: "", client: "windows" }]),
                ...shareAt(outline.shares, index.places, to, protocol),
              });
            }}
          />
        ) : (
          <div className="walk">
            <table>
              <thead>
                <tr>
                  <th>{here ? "what is in the folder" : "what the appliance offers"}</th>
                  {walkers.map((walker, column) => (
                    <th key={column} className="walker">
                      <Head
                        key={walker.who}
                        walker={walker}
                        alone={walkers.length === 1}
                        onChange={(next) => setWalkers(walkers.map((one, number) => (number === column ? next : one)))}
                        onRemove={() => setWalkers(walkers.filter((_, number) => number !== column))}
                      />
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {here && at && (
                  <tr className="files">
                    <td>files in {index.places.get(at)?.name}</td>
                    {walkers.map((_, column) => {
                      const one = visit(column, here.id, at);
                      return (
                        <td key={column}>
                          {one ? (
                            <Cell
                              visit={one}
                              file
                              pressed={picked?.column === column && picked.place === at}
                              onPick={() => setChosen({ column, place: at, share: here.id })}
                            />
                          ) : (
                            <Waiting done={found[column]?.data} />
                          )}
                        </td>
                      );
                    })}
                  </tr>
                )}
                {rows.map((row) => (
                  <tr key={row.key}>
                    <td>
                      <button className="plain name" onClick={() => go(row.share, row.place)}>
                        {row.name}
                      </button>
                    </td>
                    {walkers.map((walker, column) => {
                      const one = visit(column, row.share, row.place);
                      const listed = here !== undefined || listedTo(walker, found[column]?.data, row.share, outline.shares);
                      return (
                        <td key={column}>
                          {one ? (
                            <Cell
                              visit={one}
                              listed={listed}
                              pressed={picked?.column === column && picked.place === row.place && picked.share === row.share}
                              onPick={() => setChosen({ column, place: row.place, share: row.share })}
                            />
                          ) : found[column]?.data ? (
                            <span className="muted">not offered over {walker.protocol.toUpperCase()}</span>
                          ) : (
                            <Waiting done={undefined} />
                          )}
                        </td>
                      );
                    })}
                  </tr>
                ))}
                {here && rows.length === 0 && (
                  <tr>
                    <td className="muted" colSpan={1 + walkers.length}>
                      No places are planned below this one.
                    </td>
                  </tr>
                )}
              </tbody>
            </table>
          </div>
        )}
      </div>
      <Side label="Why">
        {params.has("everyone") ? (
          <p className="muted">
            What is listed is not wrong by itself: it is what a look at single people easily misses. A name leads to the cell on the board,
            and why it comes out so.
          </p>
        ) : picked?.visit ? (
          <Refused
            key={`${picked.walker.who} ${picked.share} ${picked.place}`}
            walker={picked.walker}
            share={picked.share}
            visit={picked.visit}
            listed={picked.listed}
          />
        ) : (
          <p className="muted">
            Choose what somebody finds to see what their computer says, and what happened. A name leads into the folder.
          </p>
        )}
      </Side>
    </>
  );
}

function Head({
  walker,
  alone,
  onChange,
  onRemove,
}: {
  walker: Walker;
  alone: boolean;
  onChange: (next: Walker) => void;
  onRemove: () => void;
}) {
  const whos = useWhos(GUEST);
  const [host, setHost] = useState(walker.host);
  const [typed, setTyped] = useState("");
  const numbers = [typed, walker.who].filter((text, number, all) => claims(text) && all.indexOf(text) === number);
  const options = [...numbers.map((text) => ({ value: text, label: `whoever claims ${text}` })), ...whos];
  const keep = () => {
    if (host.trim() !== walker.host) onChange({ ...walker, host: host.trim() });
  };
  return (
    <>
      <div className="row">
        <Select
          aria-label="Who walks"
          size="small"
          variant="borderless"
          showSearch={{ optionFilterProp: "label", onSearch: setTyped }}
          notFoundContent="Nobody of that name. Over NFS also numbers: 1001:100,2001"
          popupMatchSelectWidth={false}
          style={{ flex: 1, minWidth: 0, fontWeight: 600 }}
          value={walker.who}
          options={options}
          onChange={(who: string) => onChange({ ...walker, who, protocol: claims(who) ? "nfs" : walker.protocol })}
        />
        {!alone && (
          <button className="plain" aria-label="Remove them" title="Remove them" onClick={onRemove}>
            ✕
          </button>
        )}
      </div>
      <div className="row">
        <Select
          aria-label="Over which protocol"
          size="small"
          variant="borderless"
          style={{ width: 78 }}
          value={walker.protocol}
          options={PROTOCOLS.map(([value, label]) => ({ value, label }))}
          onChange={(protocol: "smb" | "nfs") =>
            onChange({ ...walker, protocol, who: protocol === "smb" && claims(walker.who) ? "guest" : walker.who })
          }
        />
        {walker.protocol === "smb" ? (
          <Select
            aria-label="From which kind of computer"
            size="small"
            variant="borderless"
            style={{ width: 104 }}
            value={walker.client}
            options={CLIENTS}
            onChange={(client: Client) => onChange({ ...walker, client })}
          />
        ) : (
          <Input
            size="small"
            aria-label="From which address"
            placeholder="from any host"
            title="An address, and after a space the host’s name"
            value={host}
            onChange={(event) => setHost(event.target.value)}
            onPressEnter={keep}
            onBlur={keep}
          />
        )}
      </div>
    </>
  );
}

function Cell({
  visit,
  file = false,
  listed = true,
  pressed,
  onPick,
}: {
  visit: VisitOut;
  file?: boolean;
  listed?: boolean;
  pressed: boolean;
  onPick: () => void;
}) {
  const words = finding(visit, file, listed);
  const shown = file ? visit.lists : visit.shown && listed;
  return (
    <button className={`find-cell ${shown ? "" : "hidden-from"}`} aria-pressed={pressed} onClick={onPick}>
      {(shown || visit.enters) && (
        <span className={`level ${visit.level}`}>
          <ArmSign level={visit.level} /> {visit.level}
        </span>
      )}
      <span>{words}</span>
    </button>
  );
}

function Waiting({ done }: { done: WalkOut | undefined }) {
  return <span className="muted">{done ? "not offered" : "…"}</span>;
}

function shareOf(walk: WalkOut | undefined, share: string) {
  return walk?.shares.find((one) => one.share === share);
}

/** Whether a client lists a share: Windows leaves out names that end in $. */
function listedTo(walker: Walker, walk: WalkOut | undefined, share: string, shares: Share[]) {
  const left = walker.protocol === "smb" && walker.client === "windows" && shares.find((one) => one.id === share)?.name.endsWith("$");
  return !left && (shareOf(walk, share)?.listed ?? true);
}

/** Where to stand to see a place: the share over a protocol that begins nearest above it, and the folder above. */
function shareAt(
  shares: Share[],
  places: Map<string, { parent?: string | null }>,
  place: string,
  protocol: "smb" | "nfs",
): Record<string, string> | null {
  for (let here: string | null | undefined = place, child = place; here; child = here, here = places.get(here)?.parent) {
    const share = shares.find((one) => one[protocol] && one.place === here);
    if (share) return { share: share.id, place: here === place ? place : (places.get(place)?.parent ?? child) };
  }
  return null;
}

/** From the share's top down to a place. */
function path(place: string, top: string, places: Map<string, { parent?: string | null }>): string[] {
  const steps = [place];
  for (let here = place; here !== top && steps.length < 100; steps.unshift(here)) here = places.get(here)?.parent ?? top;
  return steps;
}
