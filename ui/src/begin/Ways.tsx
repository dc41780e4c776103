import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { api, ask, message } from "../api/client";
import { useMore } from "../plan/more";
import { plural } from "../parts/plural";

/** How an empty plan can begin: from what there is, from a made-up office, or from nothing. */
export function Ways({ onImport, onPeople }: { onImport: () => void; onPeople: () => void }) {
  const more = useMore();
  const offices = useQuery({ queryKey: ["offices"], staleTime: Infinity, queryFn: () => ask(api.GET("/api/v1/offices")) });
  return (
    <div className="ways-to-begin">
      <h2>Three ways to begin</h2>
      <h3>From what you have</h3>
      <p className="muted">A table of people, a Linux host’s passwd and group files, a whole file server, a matrix, or a plan file.</p>
      <Button type="primary" onClick={onImport}>
        Import …
      </Button>
      <h3>From an office like yours</h3>
      <p className="muted">Everybody and everything in it is made up: rename, add and remove.</p>
      {offices.isError && <div className="trouble">{message(offices.error)}</div>}
      {offices.data?.map((office) => (
        <button
          key={office.id}
          className="plain card-button"
          disabled={more.busy}
          onClick={() => void more.run({ do: "office", office: office.id })}
        >
          <b>{office.title}</b>
          <span>{office.words}</span>
          <span className="muted">
            {plural(office.people, "person", "people")}, {plural(office.groups.length, "group")} · {office.places.join(", ")}
          </span>
        </button>
      ))}
      <h3>From nothing</h3>
      <p className="muted">Follow the steps on the left, from the top.</p>
      <Button onClick={onPeople}>Add people</Button>
      {more.trouble && <div className="trouble">{more.trouble}</div>}
    </div>
  );
}
