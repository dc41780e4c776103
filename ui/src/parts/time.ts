const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto" });

/** How long ago, in words. */
export function ago(iso: string): string {
  const seconds = (new Date(iso).getTime() - Date.now()) / 1000;
  const [unit, size] =
    Math.abs(seconds) < 60
      ? (["second", 1] as const)
      : Math.abs(seconds) < 3600
        ? (["minute", 60] as const)
        : Math.abs(seconds) < 86400
          ? (["hour", 3600] as const)
          : (["day", 86400] as const);
  return Math.abs(seconds) < 5 ? "just now" : relative.format(Math.round(seconds / size), unit);
}

/** A time in the reader's zone. */
export function when(iso: string): string {
  return new Date(iso).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
}
