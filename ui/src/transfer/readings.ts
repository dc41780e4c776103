import type { Layout } from "../api/client";

const WHERE = "ways of reading tables";

/** Ways of reading tables that this browser keeps, by name. */
export function readings(): Record<string, Layout> {
  try {
    return JSON.parse(localStorage.getItem(WHERE) ?? "{}") as Record<string, Layout>;
  } catch {
    return {};
  }
}

/** Keep one under a name, in place of what had it. */
export function keepReading(name: string, layout: Layout): Record<string, Layout> {
  const next = { ...readings(), [name]: layout };
  localStorage.setItem(WHERE, JSON.stringify(next));
  return next;
}
