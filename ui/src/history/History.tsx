import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Checkbox, Drawer, Input, Modal, Select, Upload } from "antd";
import { useDeferredValue, useMemo, useState } from "react";
import { api, ask, message, type Entry } from "../api/client";
import { Difference, Differs } from "./Difference";
import { when } from "../parts/time";
import { pathName, pickName } from "../plan/index";
import { usePlan } from "../plan/PlanContext";

const PAGE = 60;

/** The journal: who changed what when; name a version, compare, return. */
export default function History({ about: first = "", onClose }: { about?: string; onClose: () => void }) {
  const { id, outline, index, canEdit, take, takeBack } = usePlan();
  const [text, setText] = useState("");
  const [about, setAbout] = useState(first);
  const [pair, setPair] = useState<number[]>([]);
  const [file, setFile] = useState<{ name: string; text: string } | null>(null);
  const settled = useDeferredValue(text.trim());
  const { message: toast } = App.useApp();
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [shown, setShown] = useState<number | null>(null);
  const path = { plan: id };
  const entries = useInfiniteQuery({
    queryKey: ["of-plan", id, "history", settled, about],
    initialPageParam: undefined as number | undefined,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      ask(api.GET("/api/v1/plans/{plan}/history", { params: { path, query: { most: PAGE, before: pageParam, text: settled, about } } })),
    getNextPageParam: (page) => (page.length === PAGE ? page.at(-1)!.revision : undefined),
  });
  const versions = useQuery({
    queryKey: ["of-plan", id, "versions"],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/versions", { params: { path } })),
  });
  const list = entries.data?.pages.flat() ?? [];
  const objects = useMemo(
    () =>
      [
        ...index.usersByName.map((one) => ({ value: one.id, label: pickName(index, one.id) })),
        ...index.groupsByName.map((one) => ({ value: one.id, label: `${pickName(index, one.id)} (group)` })),
        ...outline.places.map((one) => ({ value: one.id, label: pathName(index, one.id) })),
        ...outline.shares.map((one) => ({ value: one.id, label: `${one.name} (share)` })),
      ].sort((a, b) => a.label.localeCompare(b.label)),
    [index, outline.places, outline.shares],
  );
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
    <Drawer title="History" open onClose={onClose} size={600}>
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
      <div className="row" style={{ margin: "10px 0", flexWrap: "wrap" }} role="search">
        <Input
          allowClear
          style={{ width: 180 }}
          placeholder="what, or by whom …"
          aria-label="Search the history"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Select
          allowClear
          showSearch={{ optionFilterProp: "label" }}
          style={{ width: 200 }}
          placeholder="everything that happened to …"
          aria-label="Everything that happened to"
          value={about || undefined}
          onChange={(next?: string) => setAbout(next ?? "")}
          options={objects}
        />
        <Upload
          accept=".json"
          showUploadList={false}
          beforeUpload={(chosen) => {
            void chosen.text().then((content) => setFile({ name: chosen.name, text: content }));
            return false;
          }}
        >
          <Button size="small">Compare with a plan file …</Button>
        </Upload>
      </div>
      {file && (
        <section aria-label="Comparison with a file">
          <h3 style={{ fontSize: 13 }}>
            From the plan as it is to {file.name}{" "}
            <Button size="small" type="text" onClick={() => setFile(null)}>
              ✕
            </Button>
          </h3>
          <WithFile text={file.text} />
        </section>
      )}
      {pair.length === 2 && (
        <section aria-label="Comparison of two revisions">
          <h3 style={{ fontSize: 13 }}>
            From revision {Math.min(...pair)} to {Math.max(...pair)}{" "}
            <Button size="small" type="text" onClick={() => setPair([])}>
              ✕
            </Button>
          </h3>
          <Difference older={Math.min(...pair)} newer={Math.max(...pair)} />
        </section>
      )}
      {(settled || about) && list.length === 0 && entries.isSuccess && <p className="muted">Nothing of that is in the history.</p>}
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
            <Checkbox
              title="Tick two to compare them"
              aria-label={`Compare revision ${entry.revision}`}
              checked={pair.includes(entry.revision)}
              onChange={() =>
                setPair((old) =>
                  old.includes(entry.revision) ? old.filter((one) => one !== entry.revision) : [...old.slice(-1), entry.revision],
                )
              }
            />
            <Button
              size="small"
              type="text"
              aria-expanded={shown === entry.revision}
              onClick={() => setShown(shown === entry.revision ? null : entry.revision)}
            >
              What it did
            </Button>
            {canEdit && entry.revision > 1 && (
              <Button
                size="small"
                type="text"
                title="Undo this change alone; what came after it stays"
                onClick={() => void takeBack(entry.revision)}
              >
                Take back
              </Button>
            )}
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

function WithFile({ text }: { text: string }) {
  const { id, outline } = usePlan();
  const found = useQuery({
    queryKey: ["compare-file", id, outline.revision, text],
    retry: false,
    queryFn: () =>
      ask(
        api.POST("/api/v1/plans/{plan}/compare-file", {
          params: { path: { plan: id } },
          body: { file: base64(text), revision: null },
        }),
      ),
  });
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  return found.data ? <Differs found={found.data} ahead /> : <p role="status">Comparing …</p>;
}

/** A text as its bytes in base64 (RFC 4648). */
function base64(text: string): string {
  return btoa(Array.from(new TextEncoder().encode(text), (byte) => String.fromCharCode(byte)).join(""));
}
