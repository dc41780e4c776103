import { Button, Select } from "antd";
import type { Preview } from "../api/client";
import { plural } from "../parts/plural";

export type Answers = Record<string, string>;
type Name = Preview["unknown"][number];
const KINDS: Record<Name["of"], string[]> = { who: ["person", "service", "group"], group: ["group"], place: ["place"] };

/** Names that the plan does not have, each with what becomes of it: somebody who may be meant, somebody new, or what is safe. kept: of listings and
 * servers, where a name that nobody knows stays in the lists. */
export function UnknownNames({
  unknown,
  make,
  kept,
  onChoose,
}: {
  unknown: Name[];
  make: Answers;
  kept: boolean;
  onChoose: (names: string[], answer: string | undefined) => void;
}) {
  const answered = Object.entries(make);
  if (unknown.length === 0 && answered.length === 0) return null;
  const safe = kept ? "the server’s own" : "left out";
  const people = unknown.filter((name) => name.of !== "place").map((name) => name.name);
  const places = unknown.filter((name) => name.of === "place").map((name) => name.name);
  return (
    <section aria-label="Names that the plan does not have">
      <h3 style={{ fontSize: 13 }}>Names that the plan does not have</h3>
      {people.length > 0 && (
        <p className="row">
          {kept
            ? `${plural(people.length, "name stays", "names stay")} in the lists, and nobody of the plan counts as ${people.length === 1 ? "it" : "them"}.`
            : `${plural(people.length, "row is", "rows are")} left out.`}{" "}
          Make {people.length === 1 ? "it a" : "all of them"}{" "}
          <Button size="small" onClick={() => onChoose(people, "person")}>
            {people.length === 1 ? "person" : "people"}
          </Button>{" "}
          <Button size="small" onClick={() => onChoose(people, "group")}>
            {people.length === 1 ? "group" : "groups"}
          </Button>
        </p>
      )}
      {places.length > 0 && (
        <p className="row">
          {plural(places.length, "place is", "places are")} left out.{" "}
          <Button size="small" onClick={() => onChoose(places, "place")}>
            {places.length === 1 ? "Make it a place" : "Make them places"}
          </Button>
        </p>
      )}
      <ul className="words" tabIndex={0}>
        {unknown.map((name) => (
          <li key={`${name.of} ${name.name}`} className="row">
            <span className="spread">
              line {name.line}: <b>{name.name}</b>
            </span>
            {name.near.length > 0 && !kept && (
              <Button size="small" onClick={() => onChoose([name.name], `=${name.near[0]}`)}>
                is {name.near[0]}
              </Button>
            )}
            <Select
              size="small"
              aria-label={`What to make of ${name.name}`}
              value=""
              style={{ width: 150 }}
              onChange={(value) => onChoose([name.name], value || undefined)}
              options={[
                { value: "", label: safe },
                ...(kept ? [] : name.near.map((near) => ({ value: `=${near}`, label: `is ${near}` }))),
                ...KINDS[name.of].map((value) => ({ value, label: `a new ${value}` })),
              ]}
            />
          </li>
        ))}
        {answered.map(([name, answer]) => (
          <li key={name} className="row">
            <span className="spread">
              <b>{name}</b> {answer.startsWith("=") ? `is ${answer.slice(1)}` : `will be a new ${answer}`}
            </span>
            <Button size="small" onClick={() => onChoose([name], undefined)}>
              {kept ? "Leave as it is" : "Leave out"}
            </Button>
          </li>
        ))}
      </ul>
    </section>
  );
}
