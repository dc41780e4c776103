import { useQuery } from "@tanstack/react-query";
import { Input } from "antd";
import { useState } from "react";
import { api, ask } from "../api/client";
import { useBegin } from "../begin/Begin";
import { LevelTag } from "../parts/ArmSign";
import { plural } from "../parts/plural";
import { when } from "../parts/time";
import { pathName, shownName, shutWord, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { useRollout, useStanding } from "../plan/queries";
import { whereTo } from "../rollout/Destination";
import { marks, reachedAs } from "../shares/words";
import { Sheet } from "./Sheet";

/** All that somebody needs who takes this appliance over: what it is for, its rules, exceptions and why, open promises and findings, and what was rolled out. */
export default function HandOver() {
  const { id, outline, index, canEdit, edit } = usePlan();
  const [purpose, setPurpose] = useState(outline.purpose);
  const begin = useBegin().data;
  const standing = useStanding().data;
  const rollout = useRollout(true).data;
  const versions = useQuery({
    queryKey: ["of-plan", id, "versions"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/versions", { params: { path: { plan: id } } })),
  }).data;
  const personal = Object.entries(outline.grants).flatMap(([place, lines]) =>
    lines.filter((line) => index.users.has(line.who)).map((line) => ({ place, ...line })),
  );
  const noted = [
    ...outline.users.filter((one) => one.note).map((one) => [shownName(one), one.note] as const),
    ...outline.groups.filter((one) => one.note).map((one) => [one.name, one.note] as const),
    ...outline.places.filter((one) => one.note).map((one) => [pathName(index, one.id), one.note] as const),
    ...outline.shares.filter((one) => one.note).map((one) => [`share ${one.name}`, one.note] as const),
  ];
  const open = standing?.findings.filter((one) => one.open) ?? [];
  const accepted = standing?.findings.filter((one) => !one.open && one.accepted) ?? [];
  const ending = outline.users.filter((user) => user.expires || outline.inactive.includes(user.id));
  const services = outline.users.filter((user) => user.kind === "service");
  return (
    <Sheet
      title="To whoever looks after it next"
      on={new Date().toISOString().slice(0, 10)}
      about={
        <>
          {plural(outline.users.length - services.length, "person", "people")}, {plural(services.length, "service")},{" "}
          {plural(outline.groups.length, "group")}, {plural(outline.places.length, "place")}, {plural(outline.shares.length, "share")};
          reached as <b>{reachedAs(outline)}</b>
        </>
      }
    >
      <section className="part">
        <h2>What it is for</h2>
        <Input.TextArea
          className="no-print"
          aria-label="What it is for"
          autoSize
          placeholder="In a few sentences: what the office keeps on it, and what matters most. Kept with the plan, and printed as it stands here."
          value={purpose}
          maxLength={4000}
          readOnly={!canEdit}
          onChange={(event) => setPurpose(event.target.value)}
          onBlur={() => {
            if (purpose !== outline.purpose)
              void edit([{ op: "set-title", name: outline.name, office: outline.office, purpose: purpose.trim() }]);
          }}
        />
        {purpose && <p className="print-only">{purpose}</p>}
      </section>
      <section className="part">
        <h2>What the appliance does</h2>
        <p>When several grants apply to one person: {outline.rule}.</p>
        <ul>
          {begin?.questions
            .filter((question) => question.matters)
            .map((question) => {
              const taken = question.choices.find((choice) => choice.taken);
              return (
                <li key={question.id}>
                  {question.title}: <b>{taken?.happens}</b> {taken?.words}{" "}
                  {!question.answered && <b className="late">Assumed, not known.</b>}
                </li>
              );
            })}
        </ul>
      </section>
      <section className="part">
        <h2>Groups, and what they are granted</h2>
        <table className="report">
          <tbody>
            {index.groupsByName.map((group) => {
              const granted = Object.entries(outline.grants).flatMap(([place, lines]) =>
                lines.filter((line) => line.who === group.id).map((line) => ({ place, level: line.level })),
              );
              return (
                <tr key={group.id}>
                  <td>
                    <b>{group.name}</b>
                    <div className="muted">
                      {outline.target.baseline === group.id
                        ? "everybody, without being listed"
                        : group.members.map((one) => whoName(index, one)).join(", ") || "nobody"}
                    </div>
                  </td>
                  <td>
                    {granted.length === 0 && <span className="muted">nothing of its own</span>}
                    {granted.map(({ place, level }, number) => (
                      <span key={place}>
                        {number > 0 && ", "}
                        {index.places.get(place)?.name} <LevelTag level={level} />
                      </span>
                    ))}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </section>
      <section className="part">
        <h2>Shares</h2>
        <ul>
          {outline.shares.map((share) => (
            <li key={share.id}>
              <b>{share.name}</b> offers {pathName(index, share.place)} over{" "}
              {[share.smb && "SMB", share.nfs && "NFS"].filter(Boolean).join(" and ") || "nothing"}
              {marks(share).length > 0 && `: ${marks(share).join(", ")}`}
            </li>
          ))}
        </ul>
      </section>
      <section className="part">
        <h2>Exceptions, and why</h2>
        {personal.length + accepted.length + noted.length === 0 && <p>None.</p>}
        <ul>
          {personal.map((one) => (
            <li key={`${one.place} ${one.who}`}>
              {whoName(index, one.who)} is granted <LevelTag level={one.level} /> on {pathName(index, one.place)} by name
            </li>
          ))}
          {accepted.map((one) => (
            <li key={one.id}>
              {one.sentence} <b>Accepted: {one.accepted!.reason}</b>
            </li>
          ))}
          {noted.map(([what, note]) => (
            <li key={what}>
              {what}: {note}
            </li>
          ))}
        </ul>
      </section>
      <section className="part">
        <h2>Promises</h2>
        {standing?.promises.length === 0 && <p>None are made.</p>}
        <ul>
          {standing?.promises.map((one) => (
            <li key={one.promise.id}>
              {one.words}{" "}
              {one.broken > 0 ? <b className="late">broken for {one.broken.toLocaleString()}</b> : <span className="muted">kept</span>}
              {one.promise.note && ` (${one.promise.note})`}
            </li>
          ))}
        </ul>
      </section>
      <section className="part">
        <h2>What is open</h2>
        {open.length === 0 && <p>Nothing was found.</p>}
        <ul>
          {open.map((one) => (
            <li key={one.id}>
              {one.severity === "serious" && <b className="late">serious: </b>}
              {one.sentence}
            </li>
          ))}
        </ul>
      </section>
      <section className="part">
        <h2>Accounts that ended or will</h2>
        {ending.length === 0 && <p>None.</p>}
        <ul>
          {ending.map((user) => (
            <li key={user.id}>
              {shownName(user)}: {shutWord(user, index) || `ends on ${user.expires}`}
            </li>
          ))}
        </ul>
      </section>
      <section className="part">
        <h2>What was put on the appliance</h2>
        {rollout && <p>It goes to {whereTo(rollout.destination)}.</p>}
        {rollout?.history.length === 0 && <p>Nothing yet.</p>}
        <ul>
          {rollout?.history.slice(0, 20).map((one) => (
            <li key={one.number}>
              {when(one.at)}, {one.by}: revision {one.revision}, {plural(one.steps.length, "step")}
            </li>
          ))}
        </ul>
        {rollout && rollout.total > 0 && <p className="late">{plural(rollout.total, "step")} of the plan are not there yet.</p>}
        {versions && versions.length > 0 && (
          <p>Named versions of the plan: {versions.map((one) => `${one.name} (revision ${one.revision})`).join(", ")}.</p>
        )}
      </section>
    </Sheet>
  );
}
