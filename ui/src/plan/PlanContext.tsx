import { hashKey, notifyManager, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { createContext, useCallback, useContext, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { api, ask, freeId, message, Refusal, type Answer, type Edit, type Outline, type Schemas, type Session } from "../api/client";
import { Columns } from "./columns";
import { follow } from "./events";
import { TakeBack } from "./TakeBack";
import { indexed, type Named, type PlanIndex } from "./index";

/** What the latest change did, to be shown where one looks. */
export interface LastChange {
  words: string;
  changed: Answer["changed"];
  serial: number;
}

export interface PlanState {
  id: string;
  outline: Outline;
  index: PlanIndex;
  columns: Columns;
  canEdit: boolean;
  administers: boolean;
  live: boolean;
  last: LastChange | null;
  /** Keep edits. Nothing is kept, and null comes back, where the server refuses or is away: the person is told, and may try again. */
  edit: (edits: Edit[]) => Promise<Answer | null>;
  /** Add something new of this name, under an id that the server gives; the id, or null where nothing was kept. */
  add: (name: string, edits: (id: string) => Edit[]) => Promise<string | null>;
  whatIf: (edits: Edit[]) => Promise<Answer>;
  step: (kind: "undo" | "redo") => Promise<Answer | null>;
  /** Take back one step of the history, and leave what came after it. */
  takeBack: (revision: number) => Promise<Answer | null>;
  /** Take over an answer that another request gave (an import, a return to an earlier revision). */
  take: (answer: Answer) => Promise<void>;
}

const NOTHING: Named = { users: [], groups: [], places: [], inactive: [], namesakes: [], directories: [] };
/** What stands around every screen comes with the answer to an edit, and is not asked for again; where it is kept. */
export const KEYS = { stands: ["stands", "off"], since: ["rollout", "since"], last: ["latest"] } as const;
const MANY = 20; // steps of others, of which all are told
const AROUND = Object.keys(KEYS) as (keyof typeof KEYS)[];

const outlineOf = (id: string) => ask(api.GET("/api/v1/plans/{plan}", { params: { path: { plan: id } } }));

const Context = createContext<PlanState | null>(null);

export function usePlan(): PlanState {
  const state = useContext(Context);
  if (!state) throw new Error("usePlan outside of a plan");
  return state;
}

export function PlanProvider({ id, children }: { id: string; children: ReactNode }) {
  const client = useQueryClient();
  const { notification } = App.useApp();
  const [live, setLive] = useState(true);
  const [last, setLast] = useState<LastChange | null>(null);
  const [asked, setAsked] = useState<Schemas["HistoryStep"] | null>(null);
  const revision = useRef(-1);
  const columns = useMemo(() => new Columns(id, () => revision.current), [id]);
  const queue = useRef<Promise<unknown>>(Promise.resolve());
  const key = useMemo(() => ["plan", id], [id]);

  const query = useQuery({
    queryKey: key,
    queryFn: async () => {
      const outline = await outlineOf(id);
      if (outline.revision !== revision.current) {
        revision.current = outline.revision;
        columns.outdate();
      }
      return outline;
    },
  });
  const outline = query.data;
  const { users, groups, places, inactive, namesakes, directories } = outline ?? NOTHING;
  const index = useMemo(
    () => indexed({ users, groups, places, inactive, namesakes, directories }),
    [users, groups, places, inactive, namesakes, directories],
  );

  /** What an answer brings is put in its place all at once, so that it is drawn once. */
  const take = useCallback(
    async (answer: Answer) => {
      const brought = answer.around ? AROUND.map((part) => [["of-plan", id, ...KEYS[part]], answer.around![part]] as const) : [];
      const hashes = new Set(brought.map(([queryKey]) => hashKey(queryKey)));
      // older answers may be on their way
      await Promise.all([key, ...brought.map(([queryKey]) => queryKey)].map((queryKey) => client.cancelQueries({ queryKey, exact: true })));
      const whole = answer.whole ? await outlineOf(id) : null;
      notifyManager.batch(() => {
        revision.current = whole?.revision ?? answer.revision;
        if (whole) {
          client.setQueryData<Outline>(key, whole);
          columns.outdate();
          void client.invalidateQueries({ queryKey: ["directories", id] });
        } else {
          client.setQueryData<Outline>(key, (old) => {
            if (!old) return old;
            const grants = Object.fromEntries(Object.entries({ ...old.grants, ...answer.grants }).filter(([, lines]) => lines.length > 0));
            return {
              ...old,
              revision: answer.revision,
              grants,
              standing: { ...old.standing, ...answer.standing },
              undo: answer.undo ?? null,
              redo: answer.redo ?? null,
            };
          });
          columns.put(answer.columns);
        }
        for (const [queryKey, data] of brought) client.setQueryData(queryKey, data);
        void client.invalidateQueries({ queryKey: ["of-plan", id], predicate: (one) => !hashes.has(one.queryHash) });
        setLast((old) => ({ words: answer.words, changed: answer.changed, serial: (old?.serial ?? 0) + 1 }));
      });
    },
    [client, columns, id, key],
  );

  /** One change after another, each on the revision that the one before it made. */
  const inTurn = useCallback(
    (request: () => Promise<Answer>): Promise<Answer | null> => {
      const attempt = async (): Promise<Answer | null> => {
        try {
          const answer = await request();
          await take(answer);
          notification.destroy("refused"); // what could not be kept was done otherwise
          return answer;
        } catch (error) {
          const stale = error instanceof Refusal && error.problem.status === 409;
          if (stale) await client.refetchQueries({ queryKey: key });
          const refused = error instanceof Refusal && !stale;
          const name = refused ? "refused" : `trouble-${Date.now()}`;
          notification.error({
            key: name,
            title: stale ? "The plan was changed meanwhile" : error instanceof Refusal ? error.problem.title : "Not saved",
            description: stale
              ? `${message(error)} ${(error.problem.since ?? []).map((entry) => `${entry.by}: ${entry.words}`).join("; ")}`
              : message(error),
            duration: 0,
            actions: refused ? undefined : (
              <Button
                size="small"
                type="primary"
                onClick={() => {
                  notification.destroy(name);
                  void inTurn(request);
                }}
              >
                {stale ? "Apply mine now" : "Try again"}
              </Button>
            ),
          });
          return null;
        }
      };
      const turn = queue.current.then(attempt);
      queue.current = turn;
      return turn;
    },
    [client, key, notification, take],
  );

  const send = useCallback(
    (edits: Edit[]) =>
      ask(api.POST("/api/v1/plans/{plan}/edits", { params: { path: { plan: id } }, body: { revision: revision.current, edits } })),
    [id],
  );
  const edit = useCallback((edits: Edit[]) => inTurn(() => send(edits)), [inTurn, send]);
  const add = useCallback(
    async (name: string, edits: (made: string) => Edit[]) => {
      let made = "";
      const kept = await inTurn(async () => {
        made = await freeId(id, name);
        return send(edits(made));
      });
      return kept && made;
    },
    [id, inTurn, send],
  );
  const goStep = useCallback(
    (kind: "undo" | "redo") =>
      inTurn(() => ask(api.POST(`/api/v1/plans/{plan}/${kind}`, { params: { path: { plan: id } }, body: { revision: revision.current } }))),
    [id, inTurn],
  );
  const takeBack = useCallback(
    (number: number) =>
      inTurn(() =>
        ask(
          api.POST("/api/v1/plans/{plan}/take-back", {
            params: { path: { plan: id } },
            body: { revision: revision.current, step: number },
          }),
        ),
      ),
    [id, inTurn],
  );
  const me = client.getQueryData<Session>(["session"])?.name ?? "";
  const undo = outline?.undo;
  const step = useCallback(
    (kind: "undo" | "redo") => {
      if (kind === "redo" || !undo || undo.by === me) return goStep(kind);
      setAsked(undo);
      return Promise.resolve(null);
    },
    [goStep, undo, me],
  );
  const whatIf = useCallback(
    (edits: Edit[]) =>
      ask(api.POST("/api/v1/plans/{plan}/what-if", { params: { path: { plan: id } }, body: { revision: revision.current, edits } })),
    [id],
  );

  /** What was changed elsewhere since a revision, by whom: shown where one's own last change would be, and flashing on the board. */
  const tellOthers = useCallback(
    async (older: number, newer: number) => {
      try {
        const path = { plan: id };
        const entries = await ask(
          api.GET("/api/v1/plans/{plan}/history", { params: { path, query: { before: newer + 1, most: newer - older } } }),
        );
        const theirs = entries.filter((entry) => entry.revision > older);
        if (theirs.length === 0 || theirs.length > MANY) return;
        const { effect } = await ask(api.GET("/api/v1/plans/{plan}/compare", { params: { path, query: { older, newer } } }));
        const by = [...new Set(theirs.map((entry) => (entry.by === me ? "you, elsewhere" : entry.by)))].join(", ");
        setLast((old) => ({
          words: `Just now, by ${by}: ${theirs.map((entry) => entry.words).join("; ")}`,
          changed: { total: effect.total, people: effect.people, places: effect.places, cells: effect.cells },
          serial: (old?.serial ?? 0) + 1,
        }));
      } catch {
        return; // the plan itself is read again whatever becomes of this
      }
    },
    [id, me],
  );

  useEffect(() => {
    return follow(id, (news) => {
      setLive("revision" in news || news.live);
      if (!("revision" in news)) return;
      // An edit of this tab's own may be on its way: hear its answer first.
      window.setTimeout(() => {
        void queue.current.then(() => {
          if (news.revision > revision.current) {
            if (revision.current >= 0) void tellOthers(revision.current, news.revision);
            void client.refetchQueries({ queryKey: key });
            void client.invalidateQueries({ queryKey: ["of-plan", id] });
            void client.invalidateQueries({ queryKey: ["directories", id] });
          }
        });
      }, 60);
    });
  }, [client, id, key, tellOthers]);

  if (query.isError && !outline)
    return (
      <div className="page">
        <div className="sheet-card">
          <h2>This plan cannot be shown</h2>
          <div className="trouble">{message(query.error)}</div>
          <Button onClick={() => void query.refetch()}>Try again</Button> <Button href="/plans">All plans</Button>
        </div>
      </div>
    );
  if (!outline)
    return (
      <div className="loading" role="status">
        Reading the plan …
      </div>
    );
  const canEdit = outline.may !== "reader" && outline.may !== "member" && !outline.archived;
  return (
    <Context.Provider
      value={{
        id,
        outline,
        index,
        columns,
        canEdit,
        administers: outline.may === "administrator",
        live,
        last,
        edit,
        add,
        whatIf,
        step,
        takeBack,
        take,
      }}
    >
      {children}
      {asked && (
        <TakeBack plan={id} step={asked} me={me} onTheirs={() => void goStep("undo")} onMine={takeBack} onClose={() => setAsked(null)} />
      )}
    </Context.Provider>
  );
}
