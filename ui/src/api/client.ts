import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Outline = Schemas["Outline"];
export type User = Schemas["User"];
export type Group = Schemas["GroupOut"];
export type Place = Schemas["Place"];
export type Share = Schemas["Share"];
export type VisitOut = Schemas["VisitOut"];
export type WalkOut = Schemas["WalkOut"];
export type WayOut = Schemas["WayOut"];
export type Target = Schemas["Target"];
export type Level = Schemas["Level"];
export type Column = Schemas["Column"];
export type Answer = Schemas["Answer"];
export type Changed = Schemas["Changed"];
export type Edit = Schemas["Edits"]["edits"][number];
export type Entry = Schemas["EntryOut"];
export type Problem = Schemas["Problem"];
export type Session = Schemas["Session"];
export type PlanHead = Schemas["PlanHead"];
export type ReasonOut = Schemas["ReasonOut"];
export type ImportBody = Schemas["Import"];
export type Directory = Schemas["Directory"];
export type DirectoryOut = Schemas["DirectoryOut"];
export type ReadingOut = Schemas["ReadingOut"];
export type SyncOut = Schemas["SyncOut"];
export type MappingOut = Schemas["MappingOut"];
export type StepOut = Schemas["StepOut"];
export type KeepingOut = Schemas["KeepingOut"];
export type Promised = Schemas["Promise"];
export type FindingOut = Schemas["FindingOut"];
export type EffectOut = Schemas["EffectOut"];
export type EveryoneOut = Schemas["EveryoneOut"];
export type RolloutOut = Schemas["RolloutOut"];
export type RolloutStep = Schemas["RolloutStep"];
export type Preview = Schemas["ImportPreview"];
export type TableRead = Schemas["TableOut"];
export type Layout = Schemas["Layout"];

export const api = createClient<paths>({ baseUrl: location.origin });

/** An id for something new of this name, that nothing in the plan has. */
export const freeId = async (plan: string, name: string): Promise<string> =>
  (await ask(api.GET("/api/v1/plans/{plan}/free-id", { params: { path: { plan }, query: { name } } }))).id;

/** A request that the server refused, with its problem details (RFC 9457). */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title);
  }
}

/** The server did not answer at all. */
export class Unreachable extends Error {
  constructor() {
    super("Yard Gate's server does not answer. Nothing was changed by this.");
  }
}

/** Told to the window when the server no longer knows who is asking. */
export const SIGNED_OUT = "yardgate-signed-out";

/** The data of an answer; throws Refusal or Unreachable. */
export async function ask<T>(request: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await request;
  } catch {
    throw new Unreachable();
  }
  if (answer.response.status === 401) window.dispatchEvent(new Event(SIGNED_OUT));
  if (!answer.response.ok) {
    const problem = answer.error as Problem | undefined;
    throw new Refusal(
      problem?.title
        ? problem
        : { title: `The server answered ${answer.response.status}`, status: answer.response.status, type: "about:blank", detail: "" },
    );
  }
  return answer.data as T;
}

export function message(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}
