import { useQuery } from "@tanstack/react-query";
import { api, ask } from "../api/client";

/** The cells where grants disagree; asked once for all that show them. */
export function useClashes(plan: string) {
  return useQuery({ queryKey: ["of-plan", plan, "clashes"], queryFn: () => ask(api.GET("/api/v1/plans/{plan}/clashes", { params: { path: { plan } } })) });
}
