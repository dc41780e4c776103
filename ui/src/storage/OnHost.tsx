import { Link } from "react-router";
import { useState } from "react";
import { Checkbox, Input, InputNumber, Select } from "antd";
import { usePlan } from "../plan/PlanContext";
import { sizeWords } from "../parts/size";
import type { Place, Schemas } from "../api/client";
import { GroupQuotas, Size } from "./quotas";

const SYSTEMS: Record<Place["file_system"], string> = {
  folder: "a plain folder",
  btrfs: "on btrfs",
  zfs: "on ZFS",
};
const COMES_TO: Record<Place["file_system"], string> = {
  folder: "Its datasets are folders, too: quotas and snapshots are planned here, and not made there.",
  btrfs: "Its datasets are subvolumes, with a quota and snapshots of their own. The file system has to be there already, and mounted.",
  zfs: "Its datasets are datasets of ZFS, with quotas, also of groups, and snapshots. The pool has to be there already, and mounted.",
};
const EVERY = [
  ["hours", 24],
  ["days", 7],
  ["weeks", 4],
  ["months", 12],
] as const;
const USUAL = { hours: 24, days: 7, weeks: 4, months: 12 };

/** What a pool or dataset is on the host: its file system, how much it may hold and holds, and the snapshots that are kept of it. */
export function OnHost({ place, there, put }: { place: Place; there: Schemas["HostPlace"]; put: (change: Partial<Place>) => void }) {
  const { id, canEdit } = usePlan();
  const own = there.file_system !== "folder";
  const kept = place.snapshots;
  return (
    <section className="on-host" aria-label="On the host">
      <h3>On the host</h3>
      <p className="row">
        <code>{there.path}</code>
        {place.kind === "pool" ? (
          <Select
            size="small"
            aria-label="What the pool is on the host"
            disabled={!canEdit}
            popupMatchSelectWidth={false}
            value={place.file_system}
            options={Object.entries(SYSTEMS).map(([value, label]) => ({ value: value as Place["file_system"], label }))}
            onChange={(file_system) => put({ file_system })}
          />
        ) : (
          <span>{own ? (there.file_system === "zfs" ? "a dataset of ZFS" : "a btrfs subvolume") : "a plain folder, as its pool is"}</span>
        )}
        <label>
          {place.kind === "pool" ? "has" : "quota"}{" "}
          <Size
            key={place.id}
            label={place.kind === "pool" ? "What the pool has" : "Quota"}
            size={place.quota ?? null}
            placeholder={place.kind === "pool" ? "e.g. 8 TiB" : "none"}
            disabled={!canEdit}
            onKeep={(quota) => put({ quota })}
          />
        </label>
        {place.kind !== "pool" && !own && place.quota ? <span className="late">not made there</span> : null}
        {there.used !== null && <Used used={there.used} most={place.quota ?? null} read={there.read} />}
        <Checkbox checked={place.case_sensitive} disabled={!canEdit} onChange={(event) => put({ case_sensitive: event.target.checked })}>
          case-sensitive names
        </Checkbox>
      </p>
      {place.kind === "pool" && <p className="muted">{COMES_TO[place.file_system]}</p>}
      <p className="row">
        <Checkbox
          checked={kept !== null}
          disabled={!canEdit || (!own && kept === null)}
          onChange={(event) => put({ snapshots: event.target.checked ? USUAL : null })}
        >
          Make a snapshot each hour
        </Checkbox>
        {canEdit && own && there.used !== null && <Link to={`/p/${id}/rollout?snapshots=`}>Go back to one …</Link>}
        {!own && (
          <span className={kept ? "late" : "muted"}>
            {kept ? "not made there: its pool is a plain folder" : "a plain folder has none; say above the pool that it is on btrfs or ZFS"}
          </span>
        )}
        {kept && (
          <>
            <span>and keep the newest of each of the last</span>
            {EVERY.map(([unit, usual]) => (
              <label key={unit}>
                <InputNumber
                  key={kept[unit]}
                  size="small"
                  min={0}
                  max={999}
                  style={{ width: 62 }}
                  aria-label={`Snapshots kept of ${unit}`}
                  disabled={!canEdit}
                  defaultValue={kept[unit]}
                  placeholder={String(usual)}
                  onBlur={(event) => {
                    const number = Number(event.target.value);
                    if (Number.isInteger(number) && number !== kept[unit]) put({ snapshots: { ...kept, [unit]: number } });
                  }}
                  onPressEnter={(event) => event.currentTarget.blur()}
                />{" "}
                {unit}
              </label>
            ))}
          </>
        )}
      </p>
      <Options place={place} kind={there.file_system} put={put} />
      <GroupQuotas place={place} made={there.file_system === "zfs"} put={put} />
    </section>
  );
}

type DatasetOptions = NonNullable<Place["options"]>;
const LEFT = "as it is there";
const NONE: DatasetOptions = { access_times: null, sync: null, compression: null, asked_by: "" };
const SYNC: [DatasetOptions["sync"], string][] = [
  [null, LEFT],
  ["standard", "when a client asks"],
  ["always", "always"],
  ["disabled", "never waited for"],
];

/** How the file system keeps files, where somebody asked for it otherwise than it does; and who that was. */
function Options({ place, kind, put }: { place: Place; kind: Schemas["HostPlace"]["file_system"]; put: (change: Partial<Place>) => void }) {
  const { canEdit } = usePlan();
  const [open, setOpen] = useState(false);
  const has = place.options ?? NONE;
  const says = place.options !== null;
  if (!says && !open)
    return kind !== "folder" && canEdit ? (
      <p>
        <button className="plain link" onClick={() => setOpen(true)}>
          Compression, access times, sync …
        </button>
      </p>
    ) : null;
  const keep = (change: Partial<DatasetOptions>) => {
    const next = { ...has, ...change };
    put({ options: Object.values(next).every((one) => one === null || one === "") ? null : next });
  };
  const not = (option: string) => <span className="late">{option} not set there</span>;
  return (
    <p className="row">
      <label>
        compression{" "}
        <Select
          size="small"
          aria-label="Compression"
          disabled={!canEdit}
          popupMatchSelectWidth={false}
          value={has.compression}
          options={[
            { value: null, label: LEFT },
            { value: "off", label: "none" },
            ...(kind === "btrfs" ? [] : [{ value: "lz4", label: "lz4" }]),
            { value: "zstd", label: "zstd" },
            { value: "gzip", label: "gzip" },
          ]}
          onChange={(compression) => keep({ compression: compression as DatasetOptions["compression"] })}
        />
      </label>
      {has.compression && (kind === "folder" || (kind === "btrfs" && has.compression === "lz4")) && not("compression")}
      <label>
        access times{" "}
        <Select
          size="small"
          aria-label="Access times"
          disabled={!canEdit || (kind !== "zfs" && has.access_times === null)}
          popupMatchSelectWidth={false}
          value={has.access_times}
          options={[
            { value: null, label: LEFT },
            { value: true, label: "written at each reading" },
            { value: false, label: "not written" },
          ]}
          onChange={(access_times) => keep({ access_times: access_times as boolean | null })}
        />
      </label>
      {has.access_times !== null && kind !== "zfs" && not("access times")}
      <label>
        sync{" "}
        <Select
          size="small"
          aria-label="When files are safe on disk"
          disabled={!canEdit || (kind !== "zfs" && has.sync === null)}
          popupMatchSelectWidth={false}
          value={has.sync}
          options={SYNC.map(([value, label]) => ({ value, label }))}
          onChange={(sync) => keep({ sync })}
        />
      </label>
      {has.sync === "disabled" && <span className="late">what was saved in the last seconds is lost when the power goes</span>}
      {has.sync !== null && kind !== "zfs" && not("sync")}
      <label>
        asked for by{" "}
        <Input
          key={has.asked_by}
          size="small"
          style={{ width: 240 }}
          aria-label="Who asked for that, and what for"
          placeholder="who, and what for"
          disabled={!canEdit}
          maxLength={200}
          defaultValue={has.asked_by}
          onBlur={(event) => event.target.value.trim() !== has.asked_by && keep({ asked_by: event.target.value.trim() })}
          onPressEnter={(event) => event.currentTarget.blur()}
        />
      </label>
    </p>
  );
}

function Used({ used, most, read }: { used: number; most: number | null; read: string | null }) {
  const full = most !== null && used >= 0.9 * most;
  return (
    <span className={full ? "late" : ""} title={read ? `as read on ${new Date(read).toLocaleString()}` : undefined}>
      {sizeWords(used)} used
      {most !== null && (
        <>
          {" "}
          <meter aria-label="Part of the quota that is used" min={0} max={most} high={0.9 * most} value={used} />{" "}
          {Math.round((100 * used) / most)} %
        </>
      )}
    </span>
  );
}
