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
    op.create_table(
        "snapshots",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("edits", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_snapshots_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "revision", name=op.f("pk_snapshots")),
    )
    op.create_table(
        "plan_roles",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("account", sa.String(), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_plan_roles_plan_plans"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["account"], ["accounts.id"], name=op.f("fk_plan_roles_account_accounts"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("plan", "account", name=op.f("pk_plan_roles")),
    )
    op.execute("DELETE FROM sessions")  # everybody signs in again: from now on it is known where
    for column in (
        sa.Column("id", sa.String(), nullable=False, server_default=""),
        sa.Column("made_at", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("seen_at", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("address", sa.String(), nullable=False, server_default=""),
        sa.Column("agent", sa.String(), nullable=False, server_default=""),
        sa.Column("by_link", sa.Boolean(), nullable=False, server_default=sa.false()),
    ):
        op.add_column("sessions", column)
    op.create_table(
        "audit",
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("plan", sa.String(), nullable=True),
        sa.PrimaryKeyConstraint("number", name=op.f("pk_audit")),
    )
    op.create_table(
        "commands",
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("plan", sa.String(), nullable=True),
        sa.Column("run", sa.Integer(), nullable=True),
        sa.Column("host", sa.String(), nullable=False),
        sa.Column("why", sa.String(), nullable=False),
        sa.Column("command", sa.Text(), nullable=False),
        sa.Column("code", sa.Integer(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("number", name=op.f("pk_commands")),
    )
    for table in ("audit", "commands"):
        for act in ("UPDATE", "DELETE"):
            op.execute(
                f"CREATE TRIGGER {table}_no_{act.lower()} BEFORE {act} ON {table} "
                "BEGIN SELECT RAISE(ABORT, 'rows are added here only'); END"
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
