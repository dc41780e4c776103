import { useCallback, useState } from "react";

function kept(name: string): ReadonlySet<string> {
  try {
    return new Set(JSON.parse(localStorage.getItem(name) ?? "[]") as string[]);
  } catch {
    return new Set();
  }
}

/** What is folded, kept in this browser under a name; how to fold or unfold one, and to unfold all for now. */
export function useFolds(name: string) {
  const [folded, setFolded] = useState(() => kept(name));
  const toggle = useCallback(
    (what: string) =>
      setFolded((old) => {
        const next = new Set(old);
        if (!next.delete(what)) next.add(what);
        localStorage.setItem(name, JSON.stringify([...next]));
        return next;
      }),
    [name],
  );
  const unfold = useCallback(() => setFolded((old) => (old.size > 0 ? new Set() : old)), []);
  return [folded, toggle, unfold] as const;
}
