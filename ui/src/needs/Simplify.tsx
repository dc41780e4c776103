import { Button, Segmented, Select } from "antd";
import { useState } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { plural } from "../parts/plural";
import { ManyDialog } from "../parts/selection";
import { pathName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

type Found = Schemas["SimplifiedOut"];
type Of = "plan" | "place" | "group";
const LISTED = 12;

/** Fewer grants, and the same for everybody: worked out, shown, taken as one step. */
export default function Simplify({ place, group, onClose }: { place?: string; group?: string; onClose: () => void }) {
  const { id, index } = usePlan();
  const [of, setOf] = useState<Of>(group ? "group" : "plan");
  const [where, setWhere] = useState(place);
  const [whose, setWhose] = useState(group ?? index.groupsByName[0]?.id);
  const [found, setFound] = useState<Found | null>(null);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const [all, setAll] = useState(false);
  const look = async () => {
    setBusy(true);
    setTrouble("");
    setFound(null);
    try {
      const body = { place: of === "place" ? where : null, group: of === "group" ? whose : null, seconds: 20 };
      setFound(await ask(api.POST("/api/v1/plans/{plan}/simplify", { params: { path: { plan: id } }, body })));
    } catch (error) {
      setTrouble(message(error));
    } finally {
      setBusy(false);
    }
  };
  const choose = (change: () => void) => {
    change();
    setFound(null);
  };
  return (
    <ManyDialog title="Simplify the grants that there are" ok="Take it" width={640} edits={found?.edits ?? []} onClose={onClose}>
      <p className="muted">
        Takes away grants that decide nothing, and puts a group in the place of personal grants that several people share. Nobody gets more
        or less, over any way in; nor does whoever joins a group later.
      </p>
      <div className="row">
        <Segmented
          size="small"
          aria-label="Of what"
          value={of}
          onChange={(value) => choose(() => setOf(value))}
          options={[
            { value: "plan" as const, label: "the whole plan" },
            { value: "place" as const, label: "a place and below" },
            { value: "group" as const, label: "a group and its people" },
          ]}
        />
        {of === "place" && (
          <Select
            size="small"
            showSearch
            optionFilterProp="label"
            aria-label="Place"
            style={{ minWidth: 180 }}
            value={where}
            onChange={(value) => choose(() => setWhere(value))}
            options={[...index.places.keys()].map((one) => ({ value: one, label: pathName(index, one) }))}
          />
        )}
        {of === "group" && (
          <Select
            size="small"
            showSearch
            optionFilterProp="label"
            aria-label="Group"
            style={{ minWidth: 180 }}
            value={whose}
            onChange={(value) => choose(() => setWhose(value))}
            options={index.groupsByName.map((one) => ({ value: one.id, label: one.name }))}
          />
        )}
        <Button size="small" type={found ? "default" : "primary"} loading={busy} onClick={() => void look()}>
          Look
        </Button>
      </div>
      {busy && (
        <p className="muted" role="status">
          Trying what can go, up to 20 seconds …
        </p>
      )}
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      {found && found.edits.length === 0 && <p role="status">Nothing to simplify here: every grant decides something for somebody.</p>}
      {found && found.edits.length > 0 && (
        <>
          <div className="figures" role="status">
            <span>
              <b>0</b> cells change
            </span>
            <span>
              <b>
                {found.grants} → {found.grants_left}
              </b>{" "}
              grants
            </span>
            <span>
              <b>
                {found.personal} → {found.personal_left}
              </b>{" "}
              of them personal
            </span>
          </div>
          <ul className="words" tabIndex={0}>
            {found.words.slice(0, all ? found.words.length : LISTED).map((words) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
          {found.words.length > LISTED && (
            <Button size="small" onClick={() => setAll(!all)}>
              {all ? "fewer" : `${plural(found.words.length - LISTED, "more edit")}`}
            </Button>
          )}
        </>
      )}
      {found && !found.whole && <p className="muted">The time was up before all was looked at: more may be found in a part of the plan.</p>}
    </ManyDialog>
  );
}
