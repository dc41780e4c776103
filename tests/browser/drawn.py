"""How many rows and cells of a grid React draws anew: counted by what it tells a developer's tools at each commit."""

from typing import Any

# React hands each commit's tree of fibers to this hook. A fiber whose child is another than before was gone through; one that carries the flag 1
# (PerformedWork) was drawn anew. A row is the component whose element has the role `row`; a cell, `gridcell`.
HOOK = """
window.drawn = { row: 0, gridcell: 0, all: 0 };
const count = (fiber) => {
  if (![0, 11, 14, 15].includes(fiber.tag) || !(fiber.flags & 1)) return;
  window.drawn.all++;
  const role = fiber.child?.tag === 5 && fiber.child.memoizedProps.role;
  if (role in window.drawn) window.drawn[role]++;
};
const through = (fiber) => {
  count(fiber);
  if (fiber.alternate && fiber.child === fiber.alternate.child) return;
  for (let child = fiber.child; child; child = child.sibling) through(child);
};
window.__REACT_DEVTOOLS_GLOBAL_HOOK__ = {
  supportsFiber: true,
  renderers: new Map(),
  checkDCE() {},
  inject: () => 1,
  onCommitFiberRoot: (_id, root) => through(root.current),
  onCommitFiberUnmount() {},
};
"""


def watched(driver: Any) -> None:
    """From the next page on, what is drawn is counted."""
    driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": HOOK})


def drawn(driver: Any) -> dict[str, int]:
    """What was drawn since this was last asked: rows, cells, and components of any kind."""
    return dict(
        driver.execute_script("const was = window.drawn; window.drawn = { row: 0, gridcell: 0, all: 0 }; return was;")
    )
