import { useCallback, useRef, useState } from "react";
import { api, ask, message, type Schemas } from "../api/client";
import { SMALL, withAnswer, type Found } from "./answers";

type Asked = Pick<Schemas["SuggestIn"], "kind" | "step" | "seconds">;

/** What is asked for, one after the other; the exact answer quickly, then with more time where it may not be the best. */
const STEPS: Required<Asked>[] = [
  { kind: "exact", step: 0, seconds: 4 },
  { kind: "exact", step: 0, seconds: 25 },
  { kind: "fewer groups", step: 0, seconds: 6 },
  { kind: "fewer exceptions", step: 0, seconds: 6 },
  ...[0, 1, 2, 3, 4].map((step) => ({ kind: "simpler" as const, step, seconds: 8 })),
];

export interface Answers {
  found: Found[];
  /** how far it is, from 0 to 1; null: nothing is being looked for */
  busy: number | null;
  trouble: string;
  work: (mayChange: boolean) => Promise<void>;
  stop: () => void;
}

/** Answers to the needs, as they are found; stopped, those that there are by then stay. */
export function useAnswers(plan: string): Answers {
  const [found, setFound] = useState<Found[]>([]);
  const [busy, setBusy] = useState<number | null>(null);
  const [trouble, setTrouble] = useState("");
  const going = useRef<AbortController | null>(null);
  const stop = useCallback(() => going.current?.abort(), []);
  const work = useCallback(
    async (mayChange: boolean) => {
      const own = new AbortController();
      going.current?.abort();
      going.current = own;
      setTrouble("");
      let answers: Found[] = [];
      try {
        for (const [number, step] of STEPS.entries()) {
          if (own.signal.aborted) break;
          if (number === 1 && answers[0]!.gap < SMALL) continue;
          setBusy(number / STEPS.length);
          const one = await ask(
            api.POST("/api/v1/plans/{plan}/suggest", {
              params: { path: { plan } },
              body: { ...step, may_change: mayChange, today: false },
              signal: own.signal,
            }),
          );
          answers = withAnswer(answers, one);
          setFound(answers);
        }
      } catch (error) {
        if (!own.signal.aborted) setTrouble(message(error));
      } finally {
        if (going.current === own) {
          going.current = null;
          setBusy(null);
        }
      }
    },
    [plan],
  );
  return { found, busy, trouble, work, stop };
}
