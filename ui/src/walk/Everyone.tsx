import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { api, ask, message, type EveryoneOut } from "../api/client";
import { LevelTag } from "../parts/ArmSign";
import { plural } from "../parts/plural";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

type Kind = keyof EveryoneOut["totals"];
const FIRST = 40;

/** All people tried on all places over all ways in: what in that is surprising. */
export function Everyone({ onWalk }: { onWalk: (who: string, place: string) => void }) {
  const { id, index } = usePlan();
  const found = useQuery({
    queryKey: ["of-plan", id, "everyone"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/everyone", { params: { path: { plan: id } } })),
  });
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data)
    return (
      <p className="muted" role="status" style={{ padding: 14 }}>
        Trying everyone everywhere …
      </p>
    );
  const { tried, totals, more, less, nowhere, differ, unwritten, open_to_all } = found.data;
  const none = Object.values(totals).every((total) => total === 0);
  const person = (who: string, place?: string) =>
    who === "guest" ? (
      "Guests"
    ) : (
      <Link
        to={
          place
            ? `/p/${id}/board?who=${encodeURIComponent(who)}&place=${encodeURIComponent(place)}`
            : `/p/${id}/people?who=${encodeURIComponent(who)}`
        }
      >
        {whoName(index, who)}
      </Link>
    );
  const cells = (list: EveryoneOut["more"], one: string, other: string) =>
    list.slice(0, FIRST).map((cell) => (
      <li key={`${cell.subject} ${cell.place}`}>
        {person(cell.subject, cell.place)} on {pathName(index, cell.place)}: {one} <LevelTag level={cell.one} />, {other}{" "}
        <LevelTag level={cell.other} />{" "}
        <button className="plain link" onClick={() => onWalk(cell.subject, cell.place)}>
          walk there
        </button>
      </li>
    ));
  const places = (list: string[]) =>
    list.slice(0, FIRST).map((place) => (
      <li key={place}>
        <Link to={`/p/${id}/storage?place=${encodeURIComponent(place)}`}>{pathName(index, place)}</Link>
      </li>
    ));
  const section = (kind: Kind, title: string, why: string, lines: ReactNode[], total = totals[kind] ?? 0) =>
    total > 0 && (
      <section key={kind} aria-label={title}>
        <h2>
          {title} <span className="muted">{total.toLocaleString()}</span>
        </h2>
        <p className="muted">{why}</p>
        <ul>{lines}</ul>
        {total > FIRST && <p className="muted">… and {(total - FIRST).toLocaleString()} more.</p>}
      </section>
    );
  return (
    <div className="sentences everyone">
      <p>
        {plural(tried, "cell")} tried: every person and the guest, on every place that a share leads to.
        {none && " Nothing unusual was found."}
      </p>
      {section(
        "more",
        "Gets more than is granted",
        "A line by hand, an owner, or a share gives it; Findings say which, and what would mend it.",
        cells(more, "granted", "gets"),
      )}
      {section(
        "less",
        "Gets less than is granted",
        "A folder above, a line by hand, the share or its service holds it back.",
        cells(less, "granted", "gets"),
      )}
      {section(
        "nowhere",
        "May read nothing anywhere",
        "Their account is open; perhaps they are in no group yet.",
        nowhere.slice(0, FIRST).map((who) => <li key={who}>{person(who)}</li>),
      )}
      {section(
        "differ",
        "Differs between SMB and NFS",
        "Over NFS the numbers count that a client claims, and host rules in place of grants at the share.",
        cells(differ, "over SMB", "over NFS"),
      )}
      {section("unwritten", "Nobody can write here", "Right for an archive; otherwise somebody was forgotten.", places(unwritten))}
      {section("open_to_all", "Everybody can write here", "Right for a common drop; otherwise one grant is too wide.", places(open_to_all))}
    </div>
  );
}
