import type { RolloutStep } from "../api/client";

/** Steps that are not done now -> why: chosen so, impossible, or because of what they need, or of what makes them anew (`steps.chosen` in the core). */
export function leftOut(steps: RolloutStep[], later: ReadonlySet<string>): Map<string, string> {
  const left = new Map<string, string>();
  for (const step of steps)
    if (step.trouble) left.set(step.id, step.trouble);
    else if (later.has(step.id)) left.set(step.id, "left for later");
  for (let before = -1; before !== left.size;) {
    before = left.size;
    for (const step of steps) {
      const missing = !left.has(step.id) && [...step.needs, ...(step.anew ? [step.anew] : [])].find((need) => left.has(need));
      if (missing) left.set(step.id, `needs: ${steps.find((one) => one.id === missing)?.words ?? missing}`);
    }
  }
  return left;
}
