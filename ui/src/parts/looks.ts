import { useSyncExternalStore } from "react";

/** Screens on which one looks things up and edits little. */
export const SMALL = "(max-width: 720px)";
export const NARROW = "(max-width: 1150px)";

export type Scheme = "system" | "light" | "dark";
const SCHEMES: Scheme[] = ["system", "light", "dark"];
const KEY = "scheme";
const listeners = new Set<() => void>();

/** Whether a media query holds, now and whenever it changes. */
export function useMedia(query: string): boolean {
  return useSyncExternalStore(
    (changed) => {
      const media = matchMedia(query);
      media.addEventListener("change", changed);
      return () => media.removeEventListener("change", changed);
    },
    () => matchMedia(query).matches,
  );
}

const chosen = (): Scheme => SCHEMES.find((one) => one === localStorage.getItem(KEY)) ?? "system";

/** Light or dark, as the system has it or as somebody chose in this browser. */
export function useScheme(): { scheme: Scheme; dark: boolean; choose: (scheme: Scheme) => void } {
  const scheme = useSyncExternalStore((changed) => {
    listeners.add(changed);
    return () => listeners.delete(changed);
  }, chosen);
  const system = useMedia("(prefers-color-scheme: dark)");
  return {
    scheme,
    dark: scheme === "system" ? system : scheme === "dark",
    choose: (next) => {
      localStorage.setItem(KEY, next);
      for (const changed of listeners) changed();
    },
  };
}
