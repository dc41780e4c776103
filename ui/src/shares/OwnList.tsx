import { Button, Select } from "antd";
import type { Level, Share } from "../api/client";
import { WORDS } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useWhos } from "../storage/editors";
import type { Put } from "./Acting";
import { GIVEN } from "./words";

/** Who gets what at a share that does not go by what its folder says: as when two shares of one folder are for different people. */
export function OwnList({ share, put }: { share: Share; put: Put }) {
  const { canEdit, index, outline } = usePlan();
  const whos = useWhos([{ value: "everyone", label: "Everyone" }]);
  const own = share.grants;
  if (!own) {
    const said = Object.fromEntries((outline.grants[share.place] ?? []).map((line) => [line.who, line.level]));
    return canEdit ? (
      <p style={{ margin: "-2px 0 8px" }}>
        <button className="plain link" onClick={() => void put({ grants: said })}>
          Let other people in than {pathName(index, share.place)} says …
        </button>
      </p>
    ) : null;
  }
  const names = Object.keys(own);
  return (
    <section aria-label="Who gets in at this share">
      <h3>Who gets in here, whatever its folder says</h3>
      {names.map((who) => (
        <div key={who} className="row host">
          <span className="spread">{who === "everyone" ? "Everyone" : whoName(index, who)}</span>
          <Select
            size="small"
            aria-label={`What ${whoName(index, who)} gets here`}
            disabled={!canEdit}
            value={own[who]}
            style={{ width: 120 }}
            options={GIVEN.map((level) => ({ value: level, label: WORDS[level] }))}
            onChange={(level: Level) => void put({ grants: { ...own, [who]: level } })}
          />
          {canEdit && (
            <button
              className="plain"
              aria-label={`Remove ${whoName(index, who)} here`}
              title="Remove"
              onClick={() => void put({ grants: Object.fromEntries(Object.entries(own).filter(([one]) => one !== who)) })}
            >
              ✕
            </button>
          )}
        </div>
      ))}
      {names.length === 0 && <p className="late">Nobody gets in.</p>}
      {canEdit && (
        <div className="row" style={{ marginBottom: 10 }}>
          <Select
            size="small"
            aria-label="Who else gets in here"
            showSearch={{ optionFilterProp: "label" }}
            style={{ flex: 1 }}
            placeholder="Add somebody, for reading"
            value={null}
            onChange={(who: string) => void put({ grants: { ...own, [who]: "RO" } })}
            options={whos}
          />
          <Button size="small" onClick={() => void put({ grants: null })}>
            As its folder says
          </Button>
        </div>
      )}
    </section>
  );
}
