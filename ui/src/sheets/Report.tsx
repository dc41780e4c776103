import { useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Input, Segmented } from "antd";
import { Fragment } from "react";
import { Link, useSearchParams } from "react-router";
import { changed } from "../parts/address";
import { api, ask, message, type Level, type Schemas } from "../api/client";
import { Difference } from "../history/Difference";
import { LevelTag, WORDS } from "../parts/ArmSign";
import { usePlan } from "../plan/PlanContext";
import { Sheet } from "./Sheet";

const SHOWN: Level[] = ["RW", "RO", "PT"];
const SIGNED = "access report "; // versions of this name were reports that somebody signed
type ReportOut = Schemas["ReportOut"];

/** Who gets in where and by what, for the office's files: by place, or by person; now, or as of a day; with what changed since the last, and a place to sign. */
export default function Report() {
  const { id, outline, canEdit } = usePlan();
  const client = useQueryClient();
  const { message: toast } = App.useApp();
  const [params, setParams] = useSearchParams();
  const byPerson = params.get("by") === "person";
  const day = params.get("day");
  const today = new Date().toISOString().slice(0, 10);
  const report = useQuery({
    queryKey: ["of-plan", id, "report", day],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/report", { params: { path: { plan: id }, query: { day: day ?? null } } })),
  });
  const versions = useQuery({
    queryKey: ["of-plan", id, "versions"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/versions", { params: { path: { plan: id } } })),
  });
  const signed = (versions.data ?? []).filter((one) => one.name.startsWith(SIGNED));
  const before =
    report.data &&
    signed.find((one) => one.revision <= report.data.revision && one.name.slice(SIGNED.length, SIGNED.length + 10) < (day ?? "9"));
  const address = (change: Record<string, string | null>) => setParams((old) => changed(old, change), { replace: true });
  const sign = async () => {
    try {
      await ask(
        api.POST("/api/v1/plans/{plan}/versions", {
          params: { path: { plan: id } },
          body: { name: `${SIGNED}${new Date().toISOString().slice(0, 16).replace("T", " ")}` },
        }),
      );
      await client.invalidateQueries({ queryKey: ["of-plan", id, "versions"] });
      toast.success("Kept: the next report says what changed since this one.");
    } catch (error) {
      toast.error(message(error));
    }
  };
  return (
    <Sheet
      title="Who gets in where"
      on={report.data?.on}
      about={
        byPerson
          ? "By person: the best over all shares, and what differs below it."
          : "By place: the best over all shares, and by which grants. A place that is not here is as the one above it."
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
            onChange={(by) => address({ by: String(by) })}
          />
          <label className="row">
            <span className="muted">as of</span>
            <Input
              size="small"
              type="date"
              style={{ width: 140 }}
              max={today}
              value={day ?? today}
              onChange={(event) => address({ day: event.target.value === today ? null : event.target.value || null })}
            />
          </label>
          <Button size="small" href={`/api/v1/plans/${id}/export/access`}>
            Save as CSV
          </Button>
          {canEdit && !day && (
            <Button size="small" title="Keeps this state, so that the next report says what changed since" onClick={() => void sign()}>
              It was signed
            </Button>
          )}
        </>
      }
    >
      {report.isError && <div className="trouble">{message(report.error)}</div>}
      {!report.data && !report.isError && <p role="status">Working out who gets in where …</p>}
      {report.data && report.data.revision < outline.revision && (
        <p className="late">
          As planned at the end of that day: revision {report.data.revision} of {outline.revision}.
        </p>
      )}
      {report.data && (byPerson ? <ByPerson report={report.data} /> : <ByPlace report={report.data} />)}
      {report.data && before && (
        <section className="since">
          <h2>Since the last report, {before.name.slice(SIGNED.length)}</h2>
          {before.revision === report.data.revision ? (
            <p>Nothing was changed.</p>
          ) : (
            <Difference older={before.revision} newer={report.data.revision} />
          )}
        </section>
      )}
      {report.data && (
        <div className="sign" aria-label="Place to sign">
          {["Checked by", "Day", "Signature"].map((what) => (
            <span key={what}>{what}</span>
          ))}
        </div>
      )}
    </Sheet>
  );
}

/** The names; where nearly all of those who are left get this, everybody but whom. */
function whom(who: string[], others: string[], further: boolean, name: (who: string) => string) {
  if (who.length < 6 || others.length * 3 > who.length) return who.map(name).join(", ");
  const but = others.length > 0 ? ` but ${others.map(name).join(", ")}` : "";
  return `everybody${further ? " else" : ""}${but} (${who.length.toLocaleString()})`;
}

function ByPlace({ report }: { report: ReportOut }) {
  const { outline } = usePlan();
  const active = outline.users.filter((user) => !outline.inactive.includes(user.id)).map((user) => user.id);
  const name = (who: string) => report.names[who] ?? who;
  if (report.places.length === 0) return <p>No share reaches any place, so nobody gets in anywhere.</p>;
  return (
    <table className="report">
      <thead>
        <tr>
          <th>Place, and through which shares</th>
          <th colSpan={2}>Who</th>
          <th>By</th>
        </tr>
      </thead>
      {report.places.map((place) => {
        const told = new Set<string>();
        const rows: [Level, string, string][] = SHOWN.flatMap((level) =>
          place.through
            .filter((one) => one.level === level)
            .sort((a, b) => a.who.length - b.who.length)
            .map((one): [Level, string, string] => {
              const further = told.size > 0;
              for (const who of one.who) told.add(who);
              return [
                level,
                whom(
                  one.who,
                  active.filter((who) => !told.has(who)),
                  further,
                  name,
                ),
                by(one, name),
              ];
            }),
        );
        if (place.guest !== "NA") rows.push([place.guest, "guests, without an account", "the share"]);
        return (
          <tbody key={place.place}>
            {(rows.length > 0 ? rows : [["NA", "nobody", ""] as [Level, string, string]]).map(([level, who, why], number) => (
              <tr key={`${level} ${number}`}>
                {number === 0 && (
                  <td rowSpan={Math.max(rows.length, 1)}>
                    <b>{(report.paths[place.place] ?? place.place).replaceAll("/", " / ")}</b>
                    <div className="muted">
                      {place.ways.map((way) => `${report.shares[way.share]} (${way.protocol.toUpperCase()})`).join(", ")}
                    </div>
                  </td>
                )}
                <td>
                  <LevelTag level={level} long />
                </td>
                <td>{who}</td>
                <td>{why}</td>
              </tr>
            ))}
          </tbody>
        );
      })}
    </table>
  );
}

/** By what they get it: groups, a grant to themselves, or something that no grant says. */
function by(one: Schemas["ThroughOut"], name: (who: string) => string): string {
  if (one.by.length === 0) return "no grant says it: a list by hand, the share, or being administrator";
  const own = one.who.length === 1 && one.by.includes(name(one.who[0]!));
  return one.by.map((who) => (own && who === name(one.who[0]!) ? "a grant of their own" : who)).join(", ");
}

function ByPerson({ report }: { report: ReportOut }) {
  const { id } = usePlan();
  const path = (place: string) => (report.paths[place] ?? place).replaceAll("/", "\u00a0/ ");
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
                    .map((stretch) => exceptions(stretch.place, person.stretches, path)),
                ] as const,
            ).filter(([, places]) => places.length > 0);
            return (
              <Fragment key={person.who}>
                {(rows.length > 0 ? rows : [["NA", ["nowhere"]] as const]).map(([level, places], number) => (
                  <tr key={level}>
                    {number === 0 && (
                      <td rowSpan={Math.max(rows.length, 1)}>
                        <Link to={`/p/${id}/card/${encodeURIComponent(person.who)}`}>
                          <b>{report.names[person.who] ?? person.who}</b>
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
