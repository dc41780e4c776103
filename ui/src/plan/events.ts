const RETRY = 10_000; // milliseconds

type News = { revision: number } | { live: boolean };

/**
 * Hear of every new revision of a plan. Browsers allow about six connections to one server, so of all tabs on a plan one
 * listens to the server and tells the others; when it closes, the next one takes over. Returns how to stop.
 */
export function follow(plan: string, tell: (news: News) => void): () => void {
  const name = `yardgate ${plan}`;
  const channel = new BroadcastChannel(name);
  const leaving = new AbortController();
  let source: EventSource | null = null;
  let again = 0;
  const share = (news: News) => {
    tell(news);
    channel.postMessage(news);
  };
  const listen = () => {
    source = new EventSource(`/api/v1/plans/${plan}/events`);
    source.addEventListener("revision", (event) => share({ revision: Number(event.data) }));
    source.addEventListener("open", () => share({ live: true }));
    source.addEventListener("error", () => {
      share({ live: false });
      // Refused, as where too many listen or the session has ended: the browser does not try again by itself.
      if (source?.readyState === EventSource.CLOSED && !leaving.signal.aborted) again = window.setTimeout(listen, RETRY);
    });
  };
  const stop = () => {
    window.clearTimeout(again);
    source?.close();
    leaving.abort();
    channel.close();
    window.removeEventListener("pagehide", stop);
  };
  channel.addEventListener("message", (event: MessageEvent<News>) => tell(event.data));
  window.addEventListener("pagehide", stop);

  const locks = navigator.locks as LockManager | undefined; // only on secure origins: https, or this machine itself
  if (!locks) listen();
  else {
    const held = () => new Promise<void>((resolve) => leaving.signal.addEventListener("abort", () => resolve()));
    locks
      .request(name, { signal: leaving.signal }, () => {
        listen();
        return held();
      })
      .catch(() => undefined);
  }
  return stop;
}
