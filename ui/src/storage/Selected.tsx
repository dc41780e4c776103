import { useQueries, useQuery } from "@tanstack/react-query";
import { Button, Radio, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, message, type Edit, type Level, type Place } from "../api/client";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { plural } from "../parts/plural";
import { ManyRemoveDialog } from "../parts/RemoveDialog";
import { ManyDialog, NoteDialog, type Selection } from "../parts/selection";
import { pathName } from "../plan/index";
import { useMore } from "../plan/more";
import { usePlan } from "../plan/PlanContext";
import { whoLabel, useWhos } from "./editors";
import { Size } from "./quotas";

type Act = "grant" | "share" | "list" | "quota" | "snapshots" | "note" | "remove";
interface Shared {
  places: Place[];
  many: string;
  onClose: (done: boolean) => void;
}
const KEPT: Record<string, NonNullable<Place["snapshots"]>> = {
  "24 hours, 7 days, 4 weeks, 12 months": { hours: 24, days: 7, weeks: 4, months: 12 },
  "7 days, 4 weeks": { hours: 0, days: 7, weeks: 4, months: 0 },
  "24 hours": { hours: 24, days: 0, weeks: 0, months: 0 },
};

/** Several places at once: which they are, and what can be done with all of them. */
export function Selected({ selection, onDone }: { selection: Selection; onDone: () => void }) {
  const { id, index, canEdit } = usePlan();
  const [act, setAct] = useState<Act | null>(null);
  const places = [...selection.chosen].flatMap((one) => index.places.get(one) ?? []);
  const tops = places.filter((place) => !places.some((other) => other.id !== place.id && within(index.places, place, other.id)));
  const many = plural(places.length, "place");
  const shared: Shared = {
    places,
    many,
    onClose: (done) => {
      setAct(null);
      if (done && act === "remove") {
        selection.set([]);
        onDone();
      }
    },
  };
  const sized = places.filter((place) => place.kind !== "folder");
  const acts: [Act, string, boolean][] = [
    ["grant", "Grant …", true],
    ["share", "Share each …", true],
    ["list", "Start lists over …", true],
    ["quota", "Quota …", sized.length > 0],
    ["snapshots", "Snapshots …", sized.length > 0],
    ["note", "Note …", true],
    ["remove", "Remove …", true],
  ];
  return (
    <div className="detail">
      <div className="row">
        <h2>{many} chosen</h2>
        <span className="spread" />
        <Button size="small" onClick={() => selection.set([])}>
          Let go
        </Button>
      </div>
      {canEdit && (
        <div className="row" role="toolbar" aria-label="Acts on what is chosen" style={{ margin: "8px 0", flexWrap: "wrap" }}>
          {acts
            .filter(([, , can]) => can)
            .map(([key, words]) => (
              <Button key={key} size="small" danger={key === "remove"} onClick={() => setAct(key)}>
                {words}
              </Button>
            ))}
        </div>
      )}
      <ul className="words">
        {places.map((place) => (
          <li key={place.id}>
            <Link to={`/p/${id}/board?place=${encodeURIComponent(place.id)}`}>{pathName(index, place.id)}</Link>{" "}
            <span className="muted">{place.kind}</span>
          </li>
        ))}
      </ul>
      {act === "grant" && <GrantThere {...shared} />}
      {act === "share" && <ShareEach {...shared} />}
      {act === "list" && <StartOver {...shared} />}
      {act === "quota" && <QuotaOfMany {...shared} places={sized} />}
      {act === "snapshots" && <SnapshotsOfMany {...shared} places={sized} />}
      {act === "note" && <NoteDialog many={many} edits={(note) => put(places, { note })} onClose={shared.onClose} />}
      {act === "remove" && (
        <ManyRemoveDialog
          title={`Remove ${many} from the plan`}
          word={String(places.length)}
          edits={tops.map((place): Edit => ({ op: "remove-place", place: place.id }))}
          onClose={shared.onClose}
        />
      )}
    </div>
  );
}

function within(places: Map<string, Place>, place: Place, top: string): boolean {
  for (let here = place.parent; here; here = places.get(here)?.parent ?? null) if (here === top) return true;
  return false;
}

function GrantThere({ places, many, onClose }: Shared) {
  const { outline, index } = usePlan();
  const whos = useWhos([{ value: "everyone", label: "Everyone" }]);
  const [who, setWho] = useState<string>();
  const [level, setLevel] = useState<Level | "">("RW");
  const said = (place: string) => outline.grants[place]?.find((line) => line.who === who)?.level ?? "";
  const edits: Edit[] = who
    ? places
        .filter((place) => said(place.id) !== level)
        .map((place) => ({ op: "set-grant", place: place.id, who, level: level === "" ? null : level }))
    : [];
  return (
    <ManyDialog title={`Grant in ${many}`} ok={level === "" ? "Take the grant back" : "Grant"} edits={edits} onClose={onClose}>
      <label className="field">
        <span>Who</span>
        <Select
          autoFocus
          aria-label="Who"
          showSearch={{ optionFilterProp: "label" }}
          style={{ width: "100%" }}
          value={who}
          onChange={setWho}
          options={whos}
        />
      </label>
      <Radio.Group value={level} onChange={(event) => setLevel(event.target.value as Level | "")}>
        {(["RW", "RO", "NA"] as const).map((one) => (
          <Radio key={one} value={one}>
            <LevelTag level={one} /> {WORDS[one]}
          </Radio>
        ))}
        <Radio value="">not set</Radio>
      </Radio.Group>
      {who && edits.length === 0 && <p className="muted">{whoLabel(index, who)} has just that in all of them.</p>}
    </ManyDialog>
  );
}

function ShareEach({ places, many, onClose }: Shared) {
  const { outline } = usePlan();
  const more = useMore();
  const bare = places.filter((place) => !outline.shares.some((share) => share.place === place.id)).map((place) => place.id);
  const found = useQuery({
    queryKey: ["share-each", outline.revision, bare],
    enabled: bare.length > 0,
    queryFn: () => more.edits({ do: "share", ids: bare }),
  });
  const edits = bare.length > 0 ? (found.data?.edits ?? []) : [];
  const names = edits.map((one) => (one.op === "put-share" ? one.share.name : ""));
  return (
    <ManyDialog title={`Share ${many}`} ok={`Share ${plural(bare.length, "place")}`} edits={edits} onClose={onClose}>
      {bare.length === 0 ? (
        <p>All of them are shared already.</p>
      ) : (
        <p>
          Over SMB, as {names.join(", ")}; what one cannot read is not listed.
          {bare.length < places.length && ` ${plural(places.length - bare.length, "is", "are")} shared already.`}
        </p>
      )}
      {found.isError && <div className="trouble">{message(found.error)}</div>}
    </ManyDialog>
  );
}

/** A starting kind for each, as one alone would be started over; those for one application are left out. */
function StartOver({ places, many, onClose }: Shared) {
  const { id, outline } = usePlan();
  const [chosen, setChosen] = useState("windows");
  const found = useQueries({
    queries: places.map((place) => ({
      queryKey: ["of-plan", id, "kinds", place.id, outline.revision],
      queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage/kinds", { params: { path: { plan: id }, query: { place: place.id } } })),
    })),
  });
  const kinds = (found[0]?.data ?? []).filter((kind) => !kind.id.startsWith("service-"));
  const ready = found.every((one) => one.data);
  const edits = ready ? found.flatMap((one) => one.data!.find((kind) => kind.id === chosen)?.edits ?? []) : [];
  return (
    <ManyDialog title={`Start the lists of ${many} over`} ok="Start over" danger edits={edits} onClose={onClose}>
      {!ready && <p role="status">Asking which lists there are …</p>}
      <Radio.Group className="uses" value={chosen} onChange={(event) => setChosen(event.target.value as string)}>
        {kinds.map((kind) => (
          <Radio key={kind.id} value={kind.id}>
            <b>{kind.title}</b>
            <span className="muted">{kind.words}</span>
          </Radio>
        ))}
      </Radio.Group>
    </ManyDialog>
  );
}

const put = (places: Place[], change: Partial<Place>): Edit[] =>
  places
    .map((place) => ({ ...place, ...change }))
    .filter((place, number) => JSON.stringify(place) !== JSON.stringify(places[number]))
    .map((place) => ({ op: "put-place", place }));

function QuotaOfMany({ places, onClose }: Shared) {
  const [quota, setQuota] = useState<number | null>(null);
  const many = plural(places.length, "place");
  return (
    <ManyDialog
      title={`The most that each of ${many} may hold`}
      ok={quota ? "Set the quota" : "No quota"}
      edits={put(places, { quota })}
      onClose={onClose}
    >
      <p className="row">
        Quota of each <Size label="Quota of each" size={quota} placeholder="none" disabled={false} onKeep={setQuota} />
      </p>
      <p className="muted">Pools and datasets have quotas; folders are left out.</p>
    </ManyDialog>
  );
}

function SnapshotsOfMany({ places, onClose }: Shared) {
  const [kept, setKept] = useState(Object.keys(KEPT)[0]!);
  const many = plural(places.length, "place");
  return (
    <ManyDialog
      title={`Snapshots of ${many}`}
      ok={kept ? "Keep snapshots" : "Make none"}
      edits={put(places, { snapshots: KEPT[kept] ?? null })}
      onClose={onClose}
    >
      <Radio.Group className="uses" value={kept} onChange={(event) => setKept(event.target.value as string)}>
        {Object.keys(KEPT).map((one) => (
          <Radio key={one} value={one}>
            the newest of each of the last {one}
          </Radio>
        ))}
        <Radio value="">none</Radio>
      </Radio.Group>
    </ManyDialog>
  );
}
