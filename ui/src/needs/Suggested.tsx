import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { plural } from "../parts/plural";
import { ManyDialog } from "../parts/selection";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

type Found = Schemas["SuggestionOut"];

/** The fewest groups that give just what is needed: worked out when asked, taken as one step. */
export function Suggested() {
  const { id, outline, index, canEdit } = usePlan();
  const [found, setFound] = useState<Found | null>(null);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState("");
  const [taking, setTaking] = useState(false);
  const old = found !== null && found.revision !== outline.revision;
  const work = async () => {
    setBusy(true);
    setTrouble("");
    try {
      setFound(
        await ask(api.POST("/api/v1/plans/{plan}/suggest", { params: { path: { plan: id } }, body: { seconds: 20, today: false } })),
      );
    } catch (error) {
      setTrouble(message(error));
    } finally {
      setBusy(false);
    }
  };
  return (
    <>
      <h2>Groups that give exactly this</h2>
      <p className="muted">
        The fewest groups, memberships and grants that give everybody what they need, and nothing else, in the places where something is
        needed. Groups that there are keep their members.
      </p>
      <div className="row">
        <Button
          size="small"
          type={found && !old ? "default" : "primary"}
          loading={busy}
          disabled={outline.needs.length === 0}
          onClick={() => void work()}
        >
          {found ? "Work them out again" : "Work them out"}
        </Button>
        {busy && (
          <span className="muted" role="status">
            up to 20 seconds …
          </span>
        )}
      </div>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      {found && (
        <>
          {old && <p className="late">The plan has changed since; work them out again.</p>}
          <div className="figures">
            <span>
              <b>{found.new_groups}</b> new groups
            </span>
            <span>
              <b>{found.grants}</b> grants
            </span>
            <span>
              <b>{found.personal}</b> personal
            </span>
          </div>
          <p className="muted">{howGood(found)}</p>
          {canEdit && (
            <Button size="small" type="primary" disabled={old || found.edits.length === 0} onClick={() => setTaking(true)}>
              {found.edits.length === 0 ? "The plan gives this already" : `Take it: ${plural(found.edits.length, "edit")} …`}
            </Button>
          )}
          {found.conflicts.length > 0 && (
            <div className="trouble">
              {found.conflicts.slice(0, 5).map((one) => (
                <p key={`${one.user} ${one.place}`}>
                  {whoName(index, one.user)} must not get to {pathName(index, one.place)} by one group, and needs it by another: must not
                  counts.
                </p>
              ))}
              {found.conflicts.length > 5 && <p>{plural(found.conflicts.length - 5, "more contradiction")}</p>}
            </div>
          )}
          {found.misses.length > 0 && (
            <div className="trouble">
              {found.misses.slice(0, 5).map((one) => (
                <p key={`${one.user} ${one.place}`}>
                  {whoName(index, one.user)} on {pathName(index, one.place)} would get <LevelTag level={one.gets} /> instead of{" "}
                  <LevelTag level={one.needed} />: a list or a folder above decides otherwise.
                </p>
              ))}
              {found.misses.length > 5 && <p>{plural(found.misses.length - 5, "more cell")}</p>}
            </div>
          )}
          <ul className="suggested">
            {found.groups.map((group) => (
              <li key={group.id}>
                <b>{group.name}</b>{" "}
                <span className="muted">
                  {plural(group.members.length, "person", "people")} · {group.there ? "there already" : "new"}
                </span>
                <br />
                <Grants grants={group.grants} />
                {!group.there && (
                  <div className="muted">
                    {group.members
                      .slice(0, 6)
                      .map((one) => whoName(index, one))
                      .join(", ")}
                    {group.members.length > 6 && ` and ${group.members.length - 6} more`}
                  </div>
                )}
              </li>
            ))}
            {found.singles.map((one) => (
              <li key={one.user}>
                <b>{whoName(index, one.user)}</b> <span className="muted">personal</span>
                <br />
                <Grants grants={one.grants} />
              </li>
            ))}
          </ul>
        </>
      )}
      {taking && found && (
        <ManyDialog title="Groups that give what is needed" ok="Take it" edits={found.edits} onClose={() => setTaking(false)}>
          <p>
            {plural(found.new_groups, "new group")}, {plural(found.grants, "grant")} to groups and {found.personal} to single people take
            the place of the grants in {plural(new Set(outline.needs.map((need) => need.place)).size, "place")}. One undo takes it back.
          </p>
        </ManyDialog>
      )}
    </>
  );
}

function howGood({ gap, proven, given }: Found): string {
  if (gap >= 0.0005) return `Up to ${(100 * gap).toFixed(1)} % less may be possible; it was not found in the time.`;
  if (proven) return `Proven: no fewer give this${given.map((one) => `, ${one}`).join("")}.`;
  return "The fewest that can be made of the groups that were looked at.";
}

function Grants({ grants }: { grants: Found["groups"][number]["grants"] }) {
  const { index } = usePlan();
  const names = (level: string) =>
    grants
      .filter((one) => one.level === level)
      .map((one) => index.places.get(one.place)?.name ?? one.place)
      .join(", ");
  return (
    <>
      {(["RW", "RO"] as const).map((level) =>
        names(level) ? (
          <div key={level}>
            <LevelTag level={level} /> {names(level)}
          </div>
        ) : null,
      )}
    </>
  );
}
