import { useQuery } from "@tanstack/react-query";
import { api, ask, message, type EffectOut } from "../api/client";
import { Effects } from "../parts/Effects";
import { usePlan } from "../plan/PlanContext";

type Compared = { words: string[]; effect: EffectOut };

/** What differs between two plans, in words, and what comes out of it. */
export function Differs({ found, ahead = false }: { found: Compared; ahead?: boolean }) {
  return (
    <div>
      <ul className="words" tabIndex={0}>
        {found.words.length === 0 ? <li>nothing differs</li> : found.words.map((line, number) => <li key={number}>{line}</li>)}
      </ul>
      <Effects effect={found.effect} open past={!ahead} />
    </div>
  );
}

/** The same from one revision to another. */
export function Difference({ older, newer, ahead = false }: { older: number; newer: number; ahead?: boolean }) {
  const { id } = usePlan();
  const found = useQuery({
    queryKey: ["compare", id, older, newer],
    queryFn: () => ask(api.GET("/api/v1/plans/{plan}/compare", { params: { path: { plan: id }, query: { older, newer } } })),
  });
  if (found.isError) return <div className="trouble">{message(found.error)}</div>;
  return found.data ? <Differs found={found.data} ahead={ahead} /> : <p role="status">Comparing …</p>;
}
