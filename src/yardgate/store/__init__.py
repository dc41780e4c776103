"""Records in SQLite: the tables of every plan, an append-only journal of edits, and who may sign in."""

from yardgate.store.database import Store, Trouble
from yardgate.store.plans import Entry, NotThere, Opened, Plans, Stale

__all__ = ["Entry", "NotThere", "Opened", "Plans", "Stale", "Store", "Trouble"]
