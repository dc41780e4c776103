import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { lazy, Suspense, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, message, type Schemas } from "../api/client";
import { hasTour, tourAt } from "../help/Tour";
import { useAskFirst } from "../parts/AskFirst";
import { AddDialog } from "../people/AddDialog";
import { useMore } from "../plan/more";
import { usePlan } from "../plan/PlanContext";
import { STAYS } from "../plan/queries";
import { AddShare } from "../shares/AddShare";
import { AddPlaces } from "./AddPlaces";
import { Behaviour } from "./Behaviour";
import { Ways } from "./Ways";

const TakeIn = lazy(() => import("../transfer/TakeIn"));

type Stage = Schemas["StageOut"];
type ToDo = Schemas["ToDoOut"];
type Dialog = "person" | "group" | "places" | "share" | "import";

/** Where each stage is worked on. */
const STATIONS: Record<Stage["id"], string> = {
  appliance: "",
  people: "people",
  groups: "people",
  places: "storage",
  grants: "board",
  shares: "shares",
  try: "board?view=off",
  rollout: "rollout",
  keep: "rollout",
};

export function useBegin() {
  const { id } = usePlan();
  return useQuery({
    queryKey: ["of-plan", id, "begin"],
    staleTime: STAYS,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/begin", { params: { path: { plan: id } } })),
  });
}

/** The plan in the order in which people work: what is there, what is missing, and the one thing to do next. */
export default function Begin() {
  const { id, outline, index, canEdit } = usePlan();
  const navigate = useNavigate();
  const begin = useBegin();
  const more = useMore();
  const first = useAskFirst();
  const [dialog, setDialog] = useState<Dialog | null>(null);
  const [asking, setAsking] = useState(false);
  const empty = outline.users.length + outline.groups.length + outline.places.length === 0;
  if (!begin.data)
    return (
      <div className="loading" role="status">
        {begin.isError ? message(begin.error) : "Looking at the plan …"}
      </div>
    );
  const ways = empty && canEdit && !asking;
  const stages = begin.data.stages;
  const next = stages.find((stage) => !stage.done && stage.todo.length > 0 && (stage.id !== "appliance" || !empty));
  const base = `/p/${id}`;
  const place = (one: ToDo) => encodeURIComponent(one.ids[0] ?? "");

  const act = async (one: ToDo) => {
    switch (one.act) {
      case "answer":
        setAsking(true);
        return void window.setTimeout(() => document.querySelector<HTMLElement>(".behaviour button")?.focus());
      case "add-person":
        return setDialog("person");
      case "add-group":
        return setDialog("group");
      case "add-pool":
        return setDialog("places");
      case "add-share":
        return setDialog("share");
      case "number":
        return void more.run({ do: "number", ids: one.ids });
      case "unshared": {
        const { edits } = await more.edits({ do: "share", ids: one.ids });
        return void first.put(one.ids.length === 1 ? "Share this place" : `Share these ${one.ids.length} places`, one.words, edits);
      }
      case "ungrouped":
        return void navigate(`${base}/people?show=ungrouped`);
      case "ending":
        return void navigate(`${base}/people?show=ending`);
      case "lists":
        return void navigate(`${base}/storage?place=${place(one)}`);
      case "grant":
        return void navigate(one.ids.length > 0 ? `${base}/board?place=${place(one)}` : `${base}/board`);
      case "off":
        return void navigate(`${base}/board?view=off`);
      case "promises":
        return void navigate(`${base}/promises`);
      case "findings":
        return void navigate(`${base}/promises?show=findings`);
      case "destination":
        return void navigate(`${base}/rollout?where=`);
      case "steps":
        return void navigate(`${base}/rollout`);
    }
  };
  const needsEdit: ToDo["act"][] = ["answer", "add-person", "add-group", "add-pool", "add-share", "number", "unshared"];
  const done = stages.filter((stage) => stage.done).length;

  return (
    <>
      <div className="work">
        <div className="begin" tabIndex={0} role="region" aria-label="What comes next">
          <h1>
            {empty ? "Begin" : next ? "What comes next" : "Everything is done"}{" "}
            <span className="muted">
              {done} of {stages.length} done
            </span>
            {hasTour(index.places) && (
              <Link className="tour-link" to={tourAt(id, 1)}>
                A tour of this demo, in eight steps
              </Link>
            )}
          </h1>
          <ol>
            {stages.map((stage, number) => (
              <li
                key={stage.id}
                className={`stage${stage.done ? " done" : ""}${stage === next ? " next" : ""}${stage.begun ? "" : " later"}`}
                aria-current={stage === next ? "step" : undefined}
              >
                <span className="knot" aria-hidden="true">
                  {stage.done ? "✓" : number + 1}
                </span>
                <span className="what">
                  <b>{STATIONS[stage.id] ? <Link to={`${base}/${STATIONS[stage.id]}`}>{stage.title}</Link> : stage.title}</b>
                  <span className="muted">
                    {stage.done && <span className="sr">Done. </span>}
                    {stage.says}
                  </span>
                </span>
                <span className="row acts">
                  {stage.todo
                    .filter((one) => canEdit || !needsEdit.includes(one.act))
                    .map((one, at) => (
                      <Button
                        key={one.act}
                        type={stage === next && at === 0 ? "primary" : "default"}
                        loading={one.act === "number" && more.busy}
                        onClick={() => void act(one)}
                      >
                        {one.words}
                      </Button>
                    ))}
                </span>
              </li>
            ))}
          </ol>
          {more.trouble && <div className="trouble">{more.trouble}</div>}
        </div>
      </div>
      <section className="begin-panel" tabIndex={0} aria-label={ways ? "Ways to begin" : "What the appliance does"}>
        {ways ? <Ways onImport={() => setDialog("import")} onPeople={() => setDialog("person")} /> : <Behaviour begin={begin.data} />}
      </section>
      {first.dialog}
      {(dialog === "person" || dialog === "group") && <AddDialog kind={dialog} onClose={() => setDialog(null)} />}
      {dialog === "places" && <AddPlaces onClose={() => setDialog(null)} />}
      {dialog === "share" && <AddShare onClose={() => setDialog(null)} />}
      {dialog === "import" && (
        <Suspense fallback={null}>
          <TakeIn onClose={() => setDialog(null)} />
        </Suspense>
      )}
    </>
  );
}
