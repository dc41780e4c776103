import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Drawer, Input, Modal } from "antd";
import { useState } from "react";
import { api, ask, message, type Entry } from "../api/client";
import { Effects } from "../parts/Effects";
import { when } from "../parts/time";
import { usePlan } from "../plan/PlanContext";

const PAGE = 60;

/** The journal: who changed what when; name a version, compare, return. */
export default function History({ onClose }: { onClose: () => void }) {
  const { id, outline, canEdit, take } = usePlan();
  const { message: toast } = App.useApp();
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [shown, setShown] = useState<number | null>(null);
  const path = { plan: id };
  const entries = useInfiniteQuery({
    queryKey: ["of-plan", id, "history"],
    initialPageParam: undefined as number | undefined,
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/plans/{plan}/history", { params: { path, query: { most: PAGE, before: pageParam } } })),
    getNextPageParam: (page) => (page.length === PAGE ? page.at(-1)!.revision : undefined),
  });
  const versions = useQuery({
    queryKey: ["of-plan", id, "versions"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/versions", { params: { path } })),
  });
  const list = entries.data?.pages.flat() ?? [];
  const named = new Map<number, string[]>();
  for (const version of versions.data ?? []) named.set(version.revision, [...(named.get(version.revision) ?? []), version.name]);

  const nameIt = async () => {
    try {
      await ask(api.POST("/api/v1/plans/{plan}/versions", { params: { path }, body: { name: name.trim() } }));
      setName("");
      await client.invalidateQueries({ queryKey: ["of-plan", id, "versions"] });
    } catch (error) {
      toast.error(message(error));
    }
  };
  const [target, setTarget] = useState<{ revision: number; label: string } | null>(null);
  const [busy, setBusy] = useState(false);
  const goBack = (revision: number, label: string) => setTarget({ revision, label });
  const returnTo = async (revision: number) => {
    setBusy(true);
    try {
      await take(
        await ask(api.POST("/api/v1/plans/{plan}/back-to", { params: { path }, body: { revision: outline.revision, to: revision } })),
      );
      setTarget(null);
    } catch (error) {
      toast.error(message(error), 6);
    }
    setBusy(false);
  };

  return (
    <Drawer title="History" open onClose={onClose} size={520}>
      {target && (
        <Modal
          title={`Return to ${target.label}?`}
          open
          onCancel={() => setTarget(null)}
          okText="Return to it"
          okButtonProps={{ loading: busy }}
          onOk={() => void returnTo(target.revision)}
        >
          <p>The plan becomes what it was then. This is one more change: undo takes it back, and nothing of the history is lost.</p>
          <Difference older={outline.revision} newer={target.revision} ahead />
        </Modal>
      )}
      {canEdit && (
        <div className="row" style={{ marginBottom: 12 }}>
          <Input
            placeholder="Name the plan as it is now, such as “before the move”"
            aria-label="Name of the version"
            value={name}
            maxLength={255}
            onChange={(event) => setName(event.target.value)}
            onPressEnter={() => name.trim() && void nameIt()}
          />
          <Button disabled={!name.trim()} onClick={() => void nameIt()}>
            Name it
          </Button>
        </div>
      )}
      {(versions.data?.length ?? 0) > 0 && (
        <>
          <h3 style={{ fontSize: 13 }}>Named versions</h3>
          {versions.data!.map((version) => (
            <div key={version.name} className="entry row">
              <span className="spread">
                <b>{version.name}</b>{" "}
                <span className="muted">
                  revision {version.revision}, {when(version.at)}
                </span>
              </span>
              <Button size="small" onClick={() => setShown(shown === -version.revision ? null : -version.revision)}>
                Compare with now
              </Button>
              {canEdit && (
                <Button
                  size="small"
                  disabled={version.revision === outline.revision}
                  onClick={() => goBack(version.revision, `“${version.name}”`)}
                >
                  Return
                </Button>
              )}
            </div>
          ))}
          {shown !== null && shown < 0 && <Difference older={-shown} newer={outline.revision} />}
          <h3 style={{ fontSize: 13, marginTop: 16 }}>Every change</h3>
        </>
      )}
      {entries.isError && <div className="trouble">{message(entries.error)}</div>}
      {entries.isPending && <p role="status">Reading the journal …</p>}
      {list.map((entry: Entry) => (
        <div key={entry.revision} className="entry">
          <div className="row">
            <span className="muted" style={{ fontSize: 12 }}>
              {entry.revision} · {when(entry.at)} · {entry.by}
            </span>
            {named.get(entry.revision)?.map((label) => (
              <span key={label} className="count">
                {label}
              </span>
            ))}
            <span className="spread" />
            <Button
              size="small"
              type="text"
              aria-expanded={shown === entry.revision}
              onClick={() => setShown(shown === entry.revision ? null : entry.revision)}
            >
              What it did
            </Button>
            {canEdit && (
              <Button
                size="small"
                type="text"
                disabled={entry.revision === outline.revision}
                onClick={() => goBack(entry.revision, `revision ${entry.revision}`)}
              >
                Return
              </Button>
            )}
          </div>
          <div className="what">{entry.words}</div>
          {shown === entry.revision && <Difference older={entry.revision - 1} newer={entry.revision} />}
        </div>
      ))}
      {entries.hasNextPage && (
        <Button loading={entries.isFetchingNextPage} onClick={() => void entries.fetchNextPage()}>
          Earlier changes
        </Button>
      )}
    </Drawer>
  );
}

function Difference({ older, newer, ahead = false }: { older: number; newer: number; ahead?: boolean }) {
  const { id } = usePlan();
  const found = useQuery({
    queryKey: ["compare", id, older, newer],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/compare", { params: { path: { plan: id }, query: { older, newer } } })),
  });
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  if (!found.data) return <p role="status">Comparing …</p>;
  return (
    <div>
      <ul className="words" tabIndex={0}>
        {found.data.words.length === 0 ? <li>nothing differs</li> : found.data.words.map((line, number) => <li key={number}>{line}</li>)}
      </ul>
      <Effects effect={found.data.effect} open past={!ahead} />
    </div>
  );
}
