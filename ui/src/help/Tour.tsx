import { Button } from "antd";
import { useNavigate, useSearchParams } from "react-router";
import { changed } from "../parts/address";
import { usePlan } from "../plan/PlanContext";
import steps from "./tour.json";

/** Whether a plan has what the tour shows: it leads through the demo. */
export const hasTour = (places: ReadonlyMap<string, unknown>) => ["toolpaths", "warranty", "drawings"].every((place) => places.has(place));

/** Where a step of the tour is; the number stands in the address, so that going anywhere else leaves it. */
export const tourAt = (plan: string, step: number) => {
  const path = steps[step - 1]![0]!;
  return `/p/${plan}/${path}${path.includes("?") ? "&" : "?"}tour=${step}`;
};

/** The tour through the demo: what to look at here, and on to the next. It can be left at any step. */
export function Tour() {
  const { id, index } = usePlan();
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const step = Number(params.get("tour"));
  if (!(step >= 1 && step <= steps.length) || !hasTour(index.places)) return null;
  const leave = () => setParams((old) => changed(old, { tour: null }), { replace: true });
  return (
    <aside className="tour" aria-label="Tour" aria-live="polite">
      <b>
        Tour, {step} of {steps.length}
      </b>
      <p>{steps[step - 1]![1]}</p>
      <div className="row">
        <Button size="small" onClick={leave}>
          Leave
        </Button>
        <span className="spread" />
        {step > 1 && (
          <Button size="small" onClick={() => void navigate(tourAt(id, step - 1))}>
            Back
          </Button>
        )}
        {step < steps.length ? (
          <Button size="small" type="primary" onClick={() => void navigate(tourAt(id, step + 1))}>
            Next
          </Button>
        ) : (
          <Button size="small" type="primary" onClick={leave}>
            Done
          </Button>
        )}
      </div>
    </aside>
  );
}
