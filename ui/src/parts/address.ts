/** The parameters of an address with some changed; null takes one away. */
export function changed(old: URLSearchParams, values: Record<string, string | null>): URLSearchParams {
  const next = new URLSearchParams(old);
  for (const [key, value] of Object.entries(values))
    if (value === null) next.delete(key);
    else next.set(key, value);
  return next;
}
