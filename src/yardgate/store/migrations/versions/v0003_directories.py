"""Directories: their settings, what was last read of them, and by what their accounts are followed"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    for table in ("users", "groups"):
        op.add_column(table, sa.Column("key", sa.String(), nullable=True))
        op.add_column(table, sa.Column("gone", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.add_column("groups", sa.Column("sid", sa.String(), nullable=True))
    op.add_column("groups", sa.Column("unknown", sa.JSON(), server_default="[]", nullable=False))
    op.create_table(
        "directories",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("domain", sa.String(), nullable=False),
        sa.Column("schema", sa.String(), nullable=False),
        sa.Column("controller", sa.String(), nullable=True),
        sa.Column("security", sa.String(), nullable=False),
        sa.Column("fingerprint", sa.String(), nullable=True),
        sa.Column("plain_agreed", sa.Boolean(), nullable=False),
        sa.Column("reader", sa.String(), nullable=False),
        sa.Column("base", sa.String(), nullable=False),
        sa.Column("branches", sa.JSON(), nullable=False),
        sa.Column("filter", sa.String(), nullable=False),
        sa.Column("users", sa.Boolean(), nullable=False),
        sa.Column("groups", sa.Boolean(), nullable=False),
        sa.Column("services", sa.Boolean(), nullable=False),
        sa.Column("numbering", sa.String(), nullable=False),
        sa.Column("low", sa.Integer(), nullable=False),
        sa.Column("high", sa.Integer(), nullable=False),
        sa.Column("next", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_directories_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_directories")),
    )
    op.create_table(
        "copies",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("directory", sa.String(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("full", sa.Boolean(), nullable=False),
        sa.Column("marker", sa.String(), nullable=True),
        sa.Column("records", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_copies_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "directory", name=op.f("pk_copies")),
    )
    # An origin was free text before: each becomes a directory with nothing known of it but its name.
    op.execute(
        "INSERT INTO directories (plan, id, name, domain, schema, security, plain_agreed, reader, base, branches, filter,"
        " users, groups, services, numbering, low, high)"
        " SELECT DISTINCT plan, origin, origin, origin, 'ad', 'ldaps', 0, '', '', '[]', '', 1, 1, 1, 'offset', 100000, 999999"
        " FROM (SELECT plan, origin FROM users UNION SELECT plan, origin FROM \"groups\") WHERE origin <> 'local'"
    )
    for table in ("users", "groups"):
        op.execute(f'UPDATE "{table}" SET "key" = coalesce(sid, id) WHERE origin <> \'local\'')


def downgrade() -> None:
    op.drop_table("copies")
    op.drop_table("directories")
    for column in ("unknown", "sid"):
        op.drop_column("groups", column)
    for table in ("groups", "users"):
        for column in ("gone", "key"):
            op.drop_column(table, column)
