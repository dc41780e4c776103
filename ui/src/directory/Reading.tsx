import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { api, ask, message, type SyncOut } from "../api/client";
import { cellsWords, Changes } from "../parts/Changes";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

const KINDS: [SyncOut["items"][number]["what"], string][] = [
  ["gone", "Gone from the directory"],
  ["shut", "Disabled"],
  ["open", "Enabled"],
  ["renamed", "Renamed"],
  ["joins", "Joined a group"],
  ["leaves", "Left a group"],
  ["new", "New"],
  ["back", "Back again"],
  ["number", "Number changed"],
  ["changed", "Other changes"],
];

/** A reading: how far it is, why it failed, and, when it is there, what it does to the plan before it is kept. */
export function Reading({ directory, name, onDone }: { directory: string; name: string; onDone: () => void }) {
  const { id, canEdit } = usePlan();
  const client = useQueryClient();
  const key = ["reading", id, directory];
  const params = { params: { path: { plan: id }, query: { directory } } };
  const found = useQuery({
    queryKey: key,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/directories/reading", params)),
    refetchInterval: (query) => (query.state.data?.state === "reading" ? 300 : false),
  });
  const reading = found.data;
  const forget = async () => {
    await ask(api.DELETE("/api/v1/plans/{plan}/directories/reading", params)).catch(() => undefined);
    await client.invalidateQueries({ queryKey: key });
    onDone();
  };
  if (!reading || reading.state === "none" || reading.state === "cancelled") return null;
  if (reading.state === "reading") {
    return (
      <div className="reading" role="status">
        <progress aria-label={`Reading ${name}`} /> {reading.phase}
        {reading.done > 0 && `: ${reading.done.toLocaleString()}`}
        <span className="spread" />
        {canEdit && (
          <Button size="small" onClick={() => void forget()}>
            Give up
          </Button>
        )}
      </div>
    );
  }
  if (reading.state === "failed") {
    return (
      <div className="trouble" role="alert">
        <b>
          {name} could not be read ({reading.step || "unforeseen"})
        </b>
        <br />
        {reading.words}
        <br />
        <span className="muted">The plan is as before.</span>
        <div style={{ marginTop: 6 }}>
          <Button size="small" onClick={() => void forget()}>
            Dismiss
          </Button>
        </div>
      </div>
    );
  }
  return (
    <Found
      directory={directory}
      name={name}
      full={reading.full ?? true}
      forget={forget}
      onKept={() => {
        void client.invalidateQueries({ queryKey: key });
        void client.invalidateQueries({ queryKey: ["directories", id] });
        onDone();
      }}
    />
  );
}

function Found({
  directory,
  name,
  full,
  forget,
  onKept,
}: {
  directory: string;
  name: string;
  full: boolean;
  forget: () => Promise<void>;
  onKept: () => void;
}) {
  const { id, outline, index, canEdit, take } = usePlan();
  const [trouble, setTrouble] = useState("");
  const [busy, setBusy] = useState(false);
  const params = { params: { path: { plan: id }, query: { directory } } };
  const found = useQuery({
    queryKey: ["reading-changes", id, directory, outline.revision],
    gcTime: 0,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/directories/reading/changes", params)),
  });
  const keep = async () => {
    setBusy(true);
    try {
      await take(await ask(api.POST("/api/v1/plans/{plan}/directories/keep", { ...params, body: { revision: outline.revision } })));
      onKept();
    } catch (error) {
      setTrouble(message(error));
    } finally {
      setBusy(false);
    }
  };
  if (found.isError)
    return (
      <div className="trouble">
        {message(found.error)}{" "}
        <Button size="small" onClick={() => void forget()}>
          Dismiss
        </Button>
      </div>
    );
  if (!found.data) return <p role="status">Working out what it changes in the plan …</p>;
  const sync = found.data;
  return (
    <section className="found" aria-label={`What ${name} does to the plan`}>
      <div className="row">
        <h3>
          {sync.edits === 0
            ? `${name} was read: nothing differs from the plan`
            : `${name} was read (${full ? "everything" : "what changed"}). This is what it does to the plan:`}
        </h3>
        <span className="spread" />
        {canEdit && (
          <>
            <Button size="small" onClick={() => void forget()}>
              Discard
            </Button>
            <Button size="small" type="primary" loading={busy} onClick={() => void keep()}>
              {sync.edits === 0 ? "OK" : "Apply"}
            </Button>
          </>
        )}
      </div>
      {trouble && (
        <div className="trouble" role="alert">
          {trouble}
        </div>
      )}
      <div className="two">
        <div>
          {KINDS.filter(([kind]) => sync.counts[kind]).map(([kind, title]) => {
            const items = sync.items.filter((item) => item.what === kind);
            return (
              <div key={kind}>
                <h4>
                  {title} <span className="count">{sync.counts[kind]!.toLocaleString()}</span>
                </h4>
                <ul className="words" tabIndex={0}>
                  {items.map((item, number) => (
                    <li key={number}>{item.words}</li>
                  ))}
                  {sync.counts[kind]! > items.length && (
                    <li className="muted">… and {(sync.counts[kind]! - items.length).toLocaleString()} more</li>
                  )}
                </ul>
              </div>
            );
          })}
          {sync.left_out.length > 0 && (
            <>
              <h4>Left out</h4>
              <ul className="words" tabIndex={0}>
                {sync.left_out.map((out, number) => (
                  <li key={number}>
                    <b>{out.name}</b>: {out.why}
                  </li>
                ))}
              </ul>
            </>
          )}
        </div>
        {sync.edits > 0 && (
          <div>
            <h4>{sync.changed.total === 0 ? "Nobody gets more or less by it" : `${cellsWords(sync.changed)} come out differently`}</h4>
            {sync.changed.total > 0 && <Changes changed={sync.changed} index={index} names={sync.names} most={100} />}
            <p className="muted">{plural(sync.edits, "edit")}, one step to undo.</p>
          </div>
        )}
      </div>
    </section>
  );
}
