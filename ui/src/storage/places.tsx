import { useQuery } from "@tanstack/react-query";
import { Checkbox, Input, Modal, Radio, Select } from "antd";
import { useState } from "react";
import { api, ask, message, type Edit, type Place } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { useEffectOf, WouldChange } from "../parts/Effects";
import { NameHint, useNameSays } from "../parts/NameHint";
import { pathName } from "../plan/index";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

/** Where else a place may lie. */
export function MoveDialog({
  place,
  to: first = place.parent ?? null,
  targets,
  onClose,
  onMove,
}: {
  place: Place;
  to?: string | null;
  targets: Place[];
  onClose: () => void;
  onMove: (parent: string) => void;
}) {
  const { index } = usePlan();
  const [to, setTo] = useState<string | null>(first);
  const effect = useEffectOf(to && to !== place.parent ? [{ op: "put-place", place: { ...place, parent: to } }] : []);
  return (
    <Modal
      title={`Move ${place.name}`}
      open
      onCancel={onClose}
      okText="Move"
      okButtonProps={{ disabled: !effect.data }}
      onOk={() => {
        onMove(to!);
        onClose();
      }}
    >
      <label className="field">
        <span>It will lie in</span>
        <Select
          showSearch={{ optionFilterProp: "label" }}
          style={{ width: "100%" }}
          value={to}
          onChange={setTo}
          options={targets
            .map((other) => ({ value: other.id, label: pathName(index, other.id) }))
            .sort((a, b) => a.label.localeCompare(b.label))}
        />
      </label>
      <p className="muted">
        What lies below moves along, and so do all grants. On an appliance, moving a dataset changes the paths that people know.
      </p>
      {to && to !== place.parent && <WouldChange effect={effect} open />}
    </Modal>
  );
}

const ALONE = "alone"; // an appliance whose shares alone decide: no lists

/** A new place, and at a pool what uses it. */
export function AddPlace({
  kind,
  parent,
  onClose,
}: {
  kind: Place["kind"];
  parent: string | null;
  onClose: (added: string | null) => void;
}) {
  const plan = usePlan();
  const { index } = plan;
  const [name, setName] = useState("");
  const [use, setUse] = useState("windows");
  const [app, setApp] = useState<string | null>(null);
  const [cut, setCut] = useState(false);
  const kinds = useQuery({
    queryKey: ["of-plan", plan.id, "kinds", null],
    enabled: kind === "pool",
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/storage/kinds", { params: { path: { plan: plan.id } } })),
  });
  const apps = (kinds.data ?? []).filter((one) => one.id.startsWith("service-"));
  const begun = kinds.data?.find((one) => one.id === use)?.edits[0];
  const start: Partial<Place> = begun?.op === "put-place" ? begun.place : {};
  const made = (id: string): Edit[] => [
    {
      op: "put-place",
      place: {
        note: "",
        case_sensitive: false,
        group_quotas: [],
        file_system: "folder",
        options: null,
        ...start,
        inheritance_stops: kind !== "pool" && cut,
        id,
        name: name.trim() || "new",
        kind,
        parent,
      },
    },
  ];
  const effect = useEffectOf(parent ? made("a place that is new") : []);
  const first = effect.data?.made[0];
  const add = async () => {
    const added = await plan.add(name.trim(), made);
    if (added) onClose(added);
  };
  const says = useNameSays("place", name, { parent: parent ?? undefined });
  const ready = name.trim() !== "" && !says?.trouble && (kind !== "pool" || kinds.data !== undefined);
  return (
    <Modal
      title={parent ? `Add a ${kind} in ${pathName(index, parent)}` : "Add a pool"}
      open
      onCancel={() => onClose(null)}
      okText={`Add ${kind}`}
      okButtonProps={{ disabled: !ready }}
      onOk={() => void add()}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (ready) void add();
        }}
      >
        <label className="field">
          <span>Name, as on the appliance</span>
          <Input
            autoFocus
            value={name}
            maxLength={255}
            status={says?.trouble ? "error" : undefined}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <NameHint says={says} name={name} onTake={setName} />
        {kind !== "pool" && (
          <Checkbox checked={cut} onChange={(event) => setCut(event.target.checked)}>
            Nothing comes down from {pathName(index, parent!)}: only who is granted this {kind} itself gets in
          </Checkbox>
        )}
      </form>
      {kind !== "pool" && (
        <p className="muted">
          {kind === "dataset"
            ? "A dataset can have permissions, snapshots and a quota of its own."
            : "Add a folder only where access differs from the place above it."}
        </p>
      )}
      {kind === "pool" && (
        <>
          <h3>What uses it?</h3>
          {kinds.isError && <div className="trouble">{message(kinds.error)}</div>}
          {!kinds.data && !kinds.isError && (
            <p className="muted" role="status">
              Asking which lists there are …
            </p>
          )}
          {kinds.data && (
            <Radio.Group className="uses" value={use} onChange={(event) => setUse(event.target.value as string)}>
              {kinds.data
                .filter((one) => !apps.includes(one))
                .map((one) => (
                  <Radio key={one.id} value={one.id}>
                    <b>{one.title}</b>
                    <span className="muted">{one.words}</span>
                  </Radio>
                ))}
              {apps.length > 0 && (
                <Radio value={app ?? apps[0]!.id}>
                  <b>An application</b>
                  <span className="muted">A service owns it and keeps its own files; people come in only by grants.</span>
                  {apps.some((one) => one.id === use) && (
                    <Select
                      size="small"
                      aria-label="Which service"
                      style={{ minWidth: 220 }}
                      value={use}
                      onChange={(next: string) => {
                        setApp(next);
                        setUse(next);
                      }}
                      options={apps.map((one) => ({ value: one.id, label: one.title }))}
                    />
                  )}
                </Radio>
              )}
              <Radio value={ALONE}>
                <b>An appliance whose shares alone decide</b>
                <span className="muted">
                  No lists are planned. Whoever gets into a share gets everything in it, and over NFS the hosts are asked and no grants;
                  such a plan cannot go to a Linux host.
                </span>
              </Radio>
            </Radio.Group>
          )}
        </>
      )}
      {kind !== "pool" &&
        (effect.isError ? (
          <div className="trouble">{message(effect.error)}</div>
        ) : !first ? (
          <p className="muted" role="status">
            Asking who would get in …
          </p>
        ) : first.rw + first.ro === 0 ? (
          <p>At first nobody gets in.</p>
        ) : (
          <p>
            At first {plural(first.rw + first.ro, "person gets", "people get")} in, by what holds above it:{" "}
            {[
              first.rw > 0 && (
                <span key="rw">
                  {first.rw.toLocaleString()} <LevelTag level="RW" long />
                </span>
              ),
              first.ro > 0 && (
                <span key="ro">
                  {" "}
                  {first.ro.toLocaleString()} <LevelTag level="RO" long />
                </span>
              ),
            ]}
            .
          </p>
        ))}
    </Modal>
  );
}
