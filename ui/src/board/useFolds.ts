import { useCallback, useMemo, useState } from "react";

function kept(name: string): ReadonlySet<string> {
  try {
    return new Set(JSON.parse(localStorage.getItem(name) ?? "[]") as string[]);
  } catch {
    return new Set();
  }
}

/** What is in one of two, and not in both. */
const either = (one: ReadonlySet<string>, other: ReadonlySet<string>): ReadonlySet<string> =>
  new Set([...[...one].filter((what) => !other.has(what)), ...[...other].filter((what) => !one.has(what))]);

const NONE: ReadonlySet<string> = new Set();

/** What is folded, kept in this browser under a name; how to fold or unfold one, and to unfold all for now. `closed`: what is folded until it is opened. */
export function useFolds(name: string, closed: ReadonlySet<string> = NONE) {
  const [turned, setTurned] = useState(() => kept(name));
  const folded = useMemo(() => either(turned, closed), [turned, closed]);
  const toggle = useCallback(
    (what: string) =>
      setTurned((old) => {
        const next = new Set(old);
        if (!next.delete(what)) next.add(what);
        localStorage.setItem(name, JSON.stringify([...next]));
        return next;
      }),
    [name],
  );
  const unfold = useCallback(() => setTurned((old) => (either(old, closed).size > 0 ? closed : old)), [closed]);
  return [folded, toggle, unfold] as const;
}
