import { Checkbox, Modal, Radio, Select } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { message, type Edit, type Place } from "../api/client";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { Effects, useEffectOf } from "../parts/Effects";
import { useWhos } from "./editors";

type Personal = NonNullable<Place["personal_folders"]>;
const NOBODY_YET: Personal = { group: null, users: [], services: false, managers: [], readers: [], shared: false, one_share: true };

/** A folder in this place for each of some people, with only that person and named managers and readers in it. */
export function OneEach({ place, onClose }: { place: Place; onClose: () => void }) {
  const { outline, index, canEdit, edit } = usePlan();
  const stands = outline.standing[place.id];
  const lists = Boolean(stands?.style) && stands?.style !== "mode";
  const [each, setEach] = useState<Personal>(place.personal_folders ?? { ...NOBODY_YET, one_share: lists, shared: !lists });
  const whos = useWhos();
  const change = (part: Partial<Personal>) => setEach((old) => ({ ...old, ...part }));
  const some = Boolean(each.group) || each.users.length > 0;
  const byList = each.one_share && stands?.enforced_by !== "storage";
  const wanted: Place = { ...place, personal_folders: some ? each : null, ...(some && byList ? { enforced_by: "storage" as const } : {}) };
  const edits: Edit[] = [{ op: "put-place", place: wanted }];
  const same = JSON.stringify(wanted) === JSON.stringify(place);
  const effect = useEffectOf(same ? [] : edits);
  const keep = async () => {
    if (await edit(edits)) onClose();
  };
  const along = effect.data?.along ?? [];
  const services = each.group
    ? [...index.users.values()].filter((user) => user.kind === "service" && (index.groupsOf.get(user.id) ?? []).includes(each.group!))
    : [];
  const many = (label: string, placeholder: string, part: "users" | "managers" | "readers") => (
    <label className="field">
      <span>{label}</span>
      <Select
        aria-label={label}
        mode="multiple"
        optionFilterProp="label"
        style={{ width: "100%" }}
        placeholder={placeholder}
        value={each[part]}
        onChange={(next: string[]) => change({ [part]: next })}
        options={part === "users" ? whos.filter((one) => one.label === "People and services") : whos}
      />
    </label>
  );
  return (
    <Modal
      title={`Personal folders in ${pathName(index, place.id)}`}
      width={640}
      style={{ top: 24 }}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText={!place.personal_folders ? "Make the folders" : some ? "Apply" : "Stop keeping step"}
      cancelText="Cancel"
      okButtonProps={{ disabled: !canEdit || same || !effect.data }}
    >
      <div className="two">
        <label className="field">
          <span>For every member of</span>
          <Select
            aria-label="For every member of"
            showSearch={{ optionFilterProp: "label" }}
            allowClear
            style={{ width: "100%" }}
            placeholder="no group"
            value={each.group ?? undefined}
            onChange={(one?: string) => change({ group: one ?? null })}
            options={index.groupsByName.map((one) => ({ value: one.id, label: whoName(index, one.id) }))}
          />
        </label>
        {many("And for", "nobody else", "users")}
      </div>
      {(services.length > 0 || each.services) && (
        <Checkbox checked={each.services} onChange={(event) => change({ services: event.target.checked })}>
          also for services in the group{services.length > 0 && `: ${services.map((one) => one.name).join(", ")}`}
        </Checkbox>
      )}
      <div className="two">
        {many("Who else may change what is in them", "nobody", "managers")}
        {many("Who else may read it", "nobody", "readers")}
      </div>
      <h3 id="reached">How people reach theirs</h3>
      <Radio.Group
        aria-labelledby="reached"
        className="stack"
        value={each.one_share ? (each.shared ? "both" : "one") : each.shared ? "each" : "none"}
        onChange={(event) => {
          const how = event.target.value as string;
          change({ one_share: how === "one" || how === "both", shared: how === "each" || how === "both" });
        }}
      >
        <Radio value="one" disabled={!lists}>
          One share of {place.name}; everybody sees their own folder in it, and no other
          {!lists && <span className="muted"> — needs a list on storage: a share alone, or mode bits, cannot say who passes</span>}
        </Radio>
        <Radio value="each">Each folder is a share of its own under the sign-in name, not listed</Radio>
        <Radio value="both" disabled={!lists}>
          Both
        </Radio>
        <Radio value="none">Neither: a share above leads there, or nobody gets in yet</Radio>
      </Radio.Group>
      {some && byList && <p className="muted">What is granted in {place.name} is then enforced by the list on storage.</p>}
      <p className="muted">
        {some || !place.personal_folders
          ? "Nothing comes down to these folders. Who joins later gets one; of those who leave, it is kept and closed; who is renamed finds it under the new name."
          : "The folders, their grants and shares stay as they are. Who joins from now on gets none."}
      </p>
      {same ? null : effect.isError ? (
        <div className="trouble">{message(effect.error)}</div>
      ) : !effect.data ? (
        <p className="muted" role="status">
          Asking what it would do …
        </p>
      ) : (
        <>
          {along.length > 0 ? (
            <>
              <h3>This goes with it</h3>
              <ul className="words" tabIndex={0} aria-label="What goes with it">
                {along.map((words, number) => (
                  <li key={number}>{words}</li>
                ))}
              </ul>
            </>
          ) : (
            <p className="muted">Nothing has to be done with it.</p>
          )}
          {(effect.data.total > 0 || along.length === 0) && <Effects effect={effect.data} />}
        </>
      )}
    </Modal>
  );
}

/** Who has a folder in a place, who else gets in, and by which way. */
export function PersonalWords({ place }: { place: Place }) {
  const { id, index } = usePlan();
  const each = place.personal_folders!;
  const names = (whos: string[]) => whos.map((who) => whoName(index, who)).join(" and ");
  return (
    <>
      {each.group && (
        <>
          Every member of <Link to={`/p/${id}/people?who=${encodeURIComponent(each.group)}`}>{whoName(index, each.group)}</Link>
        </>
      )}
      {each.group && each.users.length > 0 && " and "}
      {names(each.users)} {each.group || each.users.length < 2 ? "has" : "have"} a folder in it
      {each.managers.length > 0 && <>, which {names(each.managers)} may change</>}
      {each.readers.length > 0 && (
        <>
          {each.managers.length > 0 ? " and" : ", which"} {names(each.readers)} may read
        </>
      )}
      {each.one_share && <>. One share leads everybody to theirs</>}
      {each.shared && <>. Each is a share under the sign-in name</>}. It keeps step{each.group ? " with the group" : " with them"}.
    </>
  );
}
