"""Records in SQLite: the tables of every plan, an append-only journal of edits, and who may sign in."""

from yardgate.store.database import DataTrouble, Store
from yardgate.store.plans import JournalEntry, NotThere, Opened, Plans, Stale

__all__ = ["DataTrouble", "JournalEntry", "NotThere", "Opened", "Plans", "Stale", "Store"]
