import { useQuery } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { Fragment } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ask, message, type Level, type Schemas } from "../api/client";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { pathName, whoName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";
import { Sheet } from "./Sheet";

const SHOWN: Level[] = ["RW", "RO", "PT"];
type ReportOut = Schemas["ReportOut"];

/** Who gets in where, for the office's files: by place, or by person. */
export default function Report() {
  const { id } = usePlan();
  const [params, setParams] = useSearchParams();
  const byPerson = params.get("by") === "person";
  const report = useQuery({
    queryKey: ["of-plan", id, "report"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/report", { params: { path: { plan: id } } })),
  });
  return (
    <Sheet
      title="Who gets in where"
      on={report.data?.on}
      about={
        byPerson
          ? "By person: the best over all shares, and what differs below it."
          : "By place: the best over all shares. A place that is not here is as the one above it."
      }
      tools={
        <>
          <Segmented
            size="small"
            aria-label="In which order"
            value={byPerson ? "person" : "place"}
            options={[
              { value: "place", label: "By place" },
              { value: "person", label: "By person" },
            ]}
            onChange={(by) => setParams({ by: String(by) }, { replace: true })}
          />
          <Button size="small" href={`/api/v1/plans/${id}/export/access`}>
            Save as CSV
          </Button>
        </>
      }
    >
      {report.isError && <div className="trouble">{message(report.error)}</div>}
      {!report.data && !report.isError && <p role="status">Working out who gets in where …</p>}
      {report.data && (byPerson ? <ByPerson report={report.data} /> : <ByPlace report={report.data} />)}
    </Sheet>
  );
}

function ByPlace({ report }: { report: ReportOut }) {
  const { outline, index } = usePlan();
  const share = new Map(outline.shares.map((one) => [one.id, one.name]));
  const active = outline.users.filter((user) => !outline.inactive.includes(user.id)).map((user) => user.id);
  if (report.places.length === 0) return <p>No share reaches any place, so nobody gets in anywhere.</p>;
  return (
    <table className="report">
      <thead>
        <tr>
          <th>Place, and through which shares</th>
          <th colSpan={2}>Who</th>
        </tr>
      </thead>
      {report.places.map((place) => {
        const rows: [Level, string][] = SHOWN.filter((level) => (place.counts[level] ?? 0) > 0).map((level, number) => [
          level,
          names(place, level, number > 0, active, (who) => whoName(index, who)),
        ]);
        if (place.guest !== "NA") rows.push([place.guest, "guests, without an account"]);
        return (
          <tbody key={place.place}>
            {(rows.length > 0 ? rows : [["NA", "nobody"] as [Level, string]]).map(([level, who], number) => (
              <tr key={`${level} ${number}`}>
                {number === 0 && (
                  <td rowSpan={Math.max(rows.length, 1)}>
                    <b>{pathName(index, place.place)}</b>
                    <div className="muted">
                      {place.ways.map((way) => `${share.get(way.share)} (${way.protocol.toUpperCase()})`).join(", ")}
                    </div>
                  </td>
                )}
                <td>
                  <LevelTag level={level} long />
                </td>
                <td>{who}</td>
              </tr>
            ))}
          </tbody>
        );
      })}
    </table>
  );
}

/** The names; where most get this, everybody but whom. Of very many, the first. */
function names(place: Schemas["AccessOut"], level: Level, further: boolean, active: string[], name: (id: string) => string) {
  const who = place.who[level] ?? [];
  const count = place.counts[level] ?? 0;
  const said = who.map(name).join(", ");
  if (count > who.length) return `${said}, and ${(count - who.length).toLocaleString()} more`;
  const told = new Set(SHOWN.slice(0, SHOWN.indexOf(level) + 1).flatMap((one) => place.who[one] ?? []));
  const others = active.filter((one) => !told.has(one));
  if (count < 6 || others.length * 3 > count) return said;
  return `everybody${further ? " else" : ""}${others.length > 0 ? ` but ${others.map(name).join(", ")}` : ""} (${count.toLocaleString()})`;
}

function ByPerson({ report }: { report: ReportOut }) {
  const { id, index } = usePlan();
  return (
    <>
      <table className="report">
        <thead>
          <tr>
            <th>Person</th>
            <th colSpan={2}>Where</th>
          </tr>
        </thead>
        <tbody>
          {report.persons.map((person) => {
            const rows = SHOWN.map(
              (level) =>
                [
                  level,
                  person.stretches
                    .filter((stretch) => stretch.level === level)
                    .map((stretch) =>
                      exceptions(stretch.place, person.stretches, (place) => pathName(index, place).replaceAll(" / ", "\u00a0/ ")),
                    ),
                ] as const,
            ).filter(([, places]) => places.length > 0);
            return (
              <Fragment key={person.who}>
                {(rows.length > 0 ? rows : [["NA", ["nowhere"]] as const]).map(([level, places], number) => (
                  <tr key={level}>
                    {number === 0 && (
                      <td rowSpan={Math.max(rows.length, 1)}>
                        <Link to={`/p/${id}/card/${encodeURIComponent(person.who)}`}>
                          <b>{whoName(index, person.who)}</b>
                        </Link>
                      </td>
                    )}
                    <td>
                      <LevelTag level={level} long />
                    </td>
                    <td>{places.join("; ")}</td>
                  </tr>
                ))}
              </Fragment>
            );
          })}
        </tbody>
      </table>
      {report.people > report.persons.length && (
        <p>{(report.people - report.persons.length).toLocaleString()} more people stand in the CSV file.</p>
      )}
    </>
  );
}

/** A place, and below it the nearest places that differ from it. */
function exceptions(place: string, stretches: Schemas["StretchOut"][], path: (place: string) => string) {
  const top = path(place);
  const inside = stretches.filter((one) => path(one.place).startsWith(`${top}\u00a0/ `));
  const nearest = inside.filter(
    (one) => !inside.some((other) => other !== one && path(one.place).startsWith(`${path(other.place)}\u00a0/ `)),
  );
  return nearest.length === 0
    ? top
    : `${top} (but ${nearest.map((one) => `${path(one.place).slice(top.length + 3)}: ${WORDS[one.level]}`).join(", ")})`;
}
