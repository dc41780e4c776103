import { useQuery } from "@tanstack/react-query";
import { useLocation } from "react-router";
import { api, ask } from "../api/client";
import { plural } from "../parts/plural";
import { usePlan } from "../plan/PlanContext";

const SAID_EVERY = 20_000; // milliseconds; the server forgets a window that says nothing for 50 s
const WINDOW = Array.from(crypto.getRandomValues(new Uint8Array(12)), (byte) => byte.toString(16).padStart(2, "0")).join("");

/** Who else is at this plan now, and where. */
export function Others() {
  const { id } = usePlan();
  const station = /\/p\/[^/]+\/([a-z]*)/.exec(useLocation().pathname)?.[1] ?? "";
  const here = useQuery({
    queryKey: ["here", id, station],
    refetchInterval: SAID_EVERY,
    retry: false,
    queryFn: () => ask(api.PUT("/api/v1/plans/{plan}/here", { params: { path: { plan: id } }, body: { window: WINDOW, station } })),
  });
  const others = here.data ?? [];
  if (others.length === 0) return null;
  const words = others.map((one) => `${one.name} is at ${one.station || "the plan"}`).join(", ");
  return (
    <span className="others" role="status" title={words}>
      <span aria-hidden="true">
        {others.slice(0, 3).map((one) => (
          <span key={one.name} className="initials">
            {one.name
              .split(/\s+/)
              .map((part) => part[0])
              .join("")
              .slice(0, 2)
              .toUpperCase()}
          </span>
        ))}
      </span>
      <span>
        {others.length === 1
          ? `${others[0]!.name} is here, at ${others[0]!.station || "the plan"}`
          : `${plural(others.length, "other")} here`}
      </span>
    </span>
  );
}
