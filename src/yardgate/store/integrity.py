"""Whether what is kept is what it should be: each plan's tables against its journal."""

from collections.abc import Iterator
from pathlib import Path

from yardgate.core.model.plan import same
from yardgate.store.database import Store
from yardgate.store.plans import Plans


def look_through(path: Path) -> Iterator[str]:
    """What is wrong, in words. Raises Trouble, where the database cannot be opened at all."""
    store = Store(path)
    try:
        plans = Plans(store)
        for plan in plans.ids():
            try:
                opened = plans.open(plan)
                replayed = plans.replay(plan)
            except Exception as error:
                yield f"plan {plan} cannot be read: {type(error).__name__}: {error}"
                continue
            if not same(opened.plan, replayed):
                yield f"plan {opened.plan.name} ({plan}) is not what its journal makes of it"
    finally:
        store.close()
