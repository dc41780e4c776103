import { Button, Modal, Select, Switch } from "antd";
import { useState } from "react";
import type { Edit } from "../api/client";
import { useAskFirst } from "../parts/AskFirst";
import { useEffectOf, WouldChange } from "../parts/Effects";
import { usePlan } from "../plan/PlanContext";
import { useWhos } from "../storage/editors";
import { SERVICES, type ServiceId } from "./words";

/** The appliance's services: on or off, and who may use them. */
export function Services() {
  const { outline, index, canEdit } = usePlan();
  const { put, dialog } = useAskFirst();
  const [asked, setAsked] = useState<ServiceId | null>(null);
  const said = (id: ServiceId) => {
    const found = outline.services.find((one) => one.id === id);
    return { id, on: found?.on ?? true, allowed: found?.allowed ?? null };
  };
  const words = (only: string[] | null) =>
    only === null
      ? "everybody"
      : only.length === 0
        ? "nobody"
        : only.length === 1
          ? (index.groups.get(only[0]!)?.name ?? index.users.get(only[0]!)?.full_name ?? only[0]!)
          : `${only.length} of them`;
  return (
    <>
      {SERVICES.map(([id, name]) => {
        const service = said(id);
        return (
          <span key={id} className="row service">
            <Switch
              size="small"
              checked={service.on}
              disabled={!canEdit}
              onChange={(on) =>
                void put(`Switch ${name} ${on ? "on" : "off"}?`, `Switch it ${on ? "on" : "off"}`, [
                  { op: "put-service", service: { ...service, on } },
                ])
              }
              aria-label={`${name} service`}
            />{" "}
            {name} {service.on ? "on" : "off"}
            {service.on &&
              (id === "nfs" ? null : (
                <Button size="small" type="text" aria-haspopup="dialog" title={`Who may use ${name}`} onClick={() => setAsked(id)}>
                  for {words(service.allowed)}
                </Button>
              ))}
          </span>
        );
      })}
      {dialog}
      {asked && <Who key={asked} service={said(asked)} name={SERVICES.find(([id]) => id === asked)![1]} onClose={() => setAsked(null)} />}
    </>
  );
}

function Who({
  service,
  name,
  onClose,
}: {
  service: { id: ServiceId; on: boolean; allowed: string[] | null };
  name: string;
  onClose: () => void;
}) {
  const { canEdit, edit } = usePlan();
  const whos = useWhos();
  const [only, setOnly] = useState(service.allowed);
  const edits: Edit[] =
    JSON.stringify(only) === JSON.stringify(service.allowed) ? [] : [{ op: "put-service", service: { ...service, allowed: only } }];
  const effect = useEffectOf(edits);
  const keep = async () => {
    if (edits.length === 0 || (await edit(edits))) onClose();
  };
  return (
    <Modal
      title={`Who may use ${name}`}
      open
      onCancel={onClose}
      onOk={() => void keep()}
      okText="Apply"
      cancelText="Cancel"
      okButtonProps={{ disabled: !canEdit }}
    >
      <p className="muted">
        {service.id === "pages"
          ? "The appliance’s administration pages, where one signs in to look after it. Nothing on storage depends on it."
          : `Whoever is not among these gets nothing over ${name}, whatever is granted; a guest neither.`}
      </p>
      <label className="row">
        <input type="radio" name="only" checked={only === null} onChange={() => setOnly(null)} /> everybody with an account
        {service.id === "smb" ? ", and guests where a share lets them in" : ""}
      </label>
      <label className="row">
        <input type="radio" name="only" checked={only !== null} onChange={() => setOnly(service.allowed ?? [])} /> only these people and
        groups:
      </label>
      <Select
        aria-label={`Who may use ${name}`}
        mode="multiple"
        optionFilterProp="label"
        style={{ width: "100%", marginTop: 6 }}
        disabled={only === null}
        value={only ?? []}
        onChange={setOnly}
        options={whos}
        placeholder="nobody yet"
      />
      {edits.length > 0 && <WouldChange effect={effect} />}
    </Modal>
  );
}
