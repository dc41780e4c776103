import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, message, type VisitOut } from "../api/client";
import { Gates } from "../board/Gates";
import { LevelTag } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { PromiseThis } from "../promises/PromiseThis";
import { usePlan } from "../plan/PlanContext";
import { claims, hostOf, type Walker } from "./walkers";
import { clientSays } from "./words";

const CAN: [keyof VisitOut, string, string][] = [
  ["shown", "sees its name", "does not see its name"],
  ["enters", "opens it", "cannot open it"],
  ["lists", "sees the names in it", "does not see the names in it"],
  ["reads", "reads files", "cannot read files"],
  ["changes", "changes files", "cannot change files"],
  ["adds", "adds files", "cannot add files"],
  ["deletes", "deletes files", "cannot delete files"],
];

/** What somebody's computer says at a place, what they can do there, and which gates made it so. */
export function Refused({ walker, share, visit, listed }: { walker: Walker; share: string; visit: VisitOut; listed: boolean }) {
  const { id, outline, index } = usePlan();
  const { who, protocol } = walker;
  const { host, name } = hostOf(walker);
  const here = outline.shares.find((one) => one.id === share)!;
  const says = clientSays(visit, walker, here.place === visit.place);
  const reason = useQuery({
    queryKey: ["of-plan", id, "share-reason", share, who, protocol, host, name, visit.place],
    queryFn: () =>
      ask(
        api.GET("/api/v1/plans/{plan}/shares/reason", {
          params: { path: { plan: id }, query: { share, subject: who, place: visit.place, protocol, host, name } },
        }),
      ),
  });
  return (
    <>
      <h2>
        {who === "guest" ? "A guest" : claims(who) ? `Whoever claims ${who}` : whoName(index, who)} at {index.places.get(visit.place)?.name}
      </h2>
      <div className="muted" style={{ marginBottom: 8 }}>
        over {protocol.toUpperCase()}, through {here.name}: {pathName(index, visit.place)}
      </div>
      <p>
        <LevelTag level={visit.level} long />
      </p>
      {says && (
        <div className="said-box">
          <span className="muted">{visit.shown ? "" : "if they type its name, "}their computer says something like</span>
          <br />
          <i>“{says}”</i>
        </div>
      )}
      {!listed && <p>The share is not listed among the others; who knows its name gets there.</p>}
      <ul className="can">
        {CAN.map(([key, yes, no]) => (
          <li key={key} className={visit[key] ? "yes" : "no"}>
            {visit[key] ? "✓" : "✗"} {visit[key] ? yes : no}
          </li>
        ))}
      </ul>
      {reason.isError && <div className="trouble">{message(reason.error)}</div>}
      {reason.data && <Gates reason={reason.data.reason} top={here.place} />}
      {!claims(who) && <PromiseThis who={who} place={visit.place} level={visit.level} over={protocol} />}
      {who !== "guest" && !claims(who) && (
        <p>
          <Link to={`/p/${id}/board?who=${encodeURIComponent(who)}&place=${encodeURIComponent(visit.place)}`}>Show on the board</Link>
        </p>
      )}
    </>
  );
}
