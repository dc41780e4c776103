const DIALOGS = "[role=dialog], .ant-modal-root, .ant-drawer, .ant-dropdown, .ant-popover";

/**
 * When a dialog goes, the focus goes back to where it came from, instead of falling to the page: to the control that opened it, or, where that
 * is gone too, to the station. Returns what ends it.
 */
export function returningFocus(document: Document): () => void {
  let from: HTMLElement | null = null;
  const onFocus = (event: FocusEvent) => {
    const element = event.target as HTMLElement;
    if (!element.closest(DIALOGS)) from = element;
  };
  const isDialog = (node: Node) => node instanceof HTMLElement && (node.matches(DIALOGS) || node.querySelector(DIALOGS) !== null);
  const observer = new MutationObserver((changes) => {
    if (!changes.some((change) => [...change.removedNodes].some(isDialog))) return;
    window.setTimeout(() => {
      const lost = document.activeElement === document.body || document.activeElement === null;
      if (!lost || document.querySelector("[role=dialog]:not([aria-hidden=true])")) return;
      const back = from?.isConnected ? from : document.querySelector<HTMLElement>("main [role=grid], main.station");
      back?.focus({ preventScroll: true });
    });
  });
  document.addEventListener("focusin", onFocus);
  observer.observe(document.body, { childList: true, subtree: true });
  return () => {
    document.removeEventListener("focusin", onFocus);
    observer.disconnect();
  };
}

/** Fields in which keys are text; a box to tick is none. */
export const TYPED = "input:not([type=checkbox]):not([type=radio]), textarea, [contenteditable=true]";
