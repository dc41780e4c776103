import { useQuery } from "@tanstack/react-query";
import { api, ask, message, type RolloutStep } from "../api/client";
import { usePlan } from "../plan/PlanContext";

/** One step: what it does and by which commands, what it needs, and what undoes it. */
export function StepPanel({
  step,
  simulated,
  left,
  steps,
}: {
  step: RolloutStep;
  simulated: boolean;
  left: string | undefined;
  steps: RolloutStep[];
}) {
  const { id } = usePlan();
  const found = useQuery({
    queryKey: ["of-plan", id, "rollout", "step", step.id, simulated],
    enabled: !step.trouble,
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/rollout/step", { params: { path: { plan: id }, query: { id: step.id } } })),
  });
  const needed = step.needs.map((need) => steps.find((one) => one.id === need)?.words ?? need);
  return (
    <>
      <h2>{step.words.charAt(0).toUpperCase() + step.words.slice(1)}</h2>
      {left && <p className="late">Not done now: {left}.</p>}
      {step.destroys && <p className="late">What goes with it does not come back.</p>}
      {step.anew && (
        <p className="muted">Another share takes a folder and a host that it has now, so it is removed before and made again after.</p>
      )}
      {needed.length > 0 && (
        <>
          <h3>Comes after</h3>
          <ul className="words" tabIndex={0}>
            {needed.map((words) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
        </>
      )}
      {step.reloads && <p className="muted">The {step.reloads.toUpperCase()} server reloads its configuration; open connections go on.</p>}
      {found.isError && <div className="trouble">{message(found.error)}</div>}
      {!step.trouble && !found.data && !found.isError && (
        <p className="muted" role="status">
          Writing its commands …
        </p>
      )}
      {found.data && (
        <>
          <h3>Its commands</h3>
          <Commands lines={found.data.commands} />
          <h3>What undoes it: {found.data.undo_words}</h3>
          <Commands lines={found.data.undo} />
          {!simulated && (
            <p className="muted">
              They need root. The script asks nothing of a shell that a name could change: names are arguments, or stand in files that were
              checked.
            </p>
          )}
        </>
      )}
    </>
  );
}

/** Commands to be read, or copied. */
export function Commands({ lines }: { lines: string[] }) {
  return (
    <pre className="commands" tabIndex={0}>
      {lines.map((line, number) => (
        <span key={number} className={line.startsWith("# ") ? "muted" : undefined}>
          {line}
          {"\n"}
        </span>
      ))}
    </pre>
  );
}
