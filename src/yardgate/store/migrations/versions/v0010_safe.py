"""What plans may change on their hosts, and what was done in the installation itself"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("destinations", sa.Column("host", sa.JSON(none_as_null=True), nullable=True))
    op.create_table(
        "managed",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("part", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_managed_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "part", "name", name=op.f("pk_managed")),
    )
    op.create_table(
        "servers",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("directory", sa.String(), nullable=False),
        sa.Column("server", sa.JSON(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_servers_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "directory", name=op.f("pk_servers")),
    )
    _managed()


def _managed() -> None:
    """What earlier rollouts made and left there may go on being changed."""
    bind = op.get_bind()
    runs = bind.execute(sa.text("SELECT plan, steps, at, by FROM runs WHERE state = 'kept' ORDER BY plan, number"))
    found: dict[tuple[str, str, str], tuple[str, str]] = {}
    for plan, steps, at, by in runs:
        for step in json.loads(steps):
            part, before, after = step["part"], step["before"], step["after"]
            if part not in ("accounts", "groups"):
                continue
            was = None if before is None else (plan, part, before["name"])
            known = was is None or found.pop(was, None) is not None
            if known and after is not None:
                found[plan, part, after["name"]] = (at, by)
    for (plan, part, name), (at, by) in found.items():
        row = {"plan": plan, "part": part, "name": name, "at": at, "by": by}
        bind.execute(sa.text("INSERT INTO managed VALUES (:plan, :part, :name, :at, :by)"), row)
