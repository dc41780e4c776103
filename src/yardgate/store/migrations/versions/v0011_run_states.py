"""Runs and rollouts have the states that they are known by"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"

STATES = {
    "begun": "pending",
    "by hand": "by-hand",
    "doing": "applying",
    "trying": "verifying",
    "waiting": "awaiting-confirmation",
    "keeping": "confirming",
    "putting back": "rolling-back",
    "host puts back": "host-rolling-back",
    "kept": "committed",
    "put back": "rolled-back",
    "not all put back": "partly-rolled-back",
    "given up": "abandoned",
}
KINDS = {
    "done": "by-hand",
    "put back": "rolled-back",
    "not all put back": "partly-rolled-back",
    "given up": "abandoned",
}
LINES = {"ticked": "marked", "unticked": "unmarked"}


def upgrade() -> None:
    for table, column, names in (("runs", "state", STATES), ("rollouts", "kind", KINDS), ("run_lines", "kind", LINES)):
        for old, new in names.items():
            statement = sa.text(f"UPDATE {table} SET {column} = :new WHERE {column} = :old")
            op.get_bind().execute(statement, {"old": old, "new": new})
