"""Shares, file services, and which host rule counts"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("plans", sa.Column("host_rules", sa.String(), server_default="narrowest", nullable=False))
    op.create_table(
        "shares",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("smb", sa.Boolean(), nullable=False),
        sa.Column("nfs", sa.Boolean(), nullable=False),
        sa.Column("guests", sa.String(), nullable=False),
        sa.Column("read_only", sa.Boolean(), nullable=False),
        sa.Column("hidden", sa.Boolean(), nullable=False),
        sa.Column("hide_unreadable", sa.Boolean(), nullable=False),
        sa.Column("administrator", sa.String(), nullable=True),
        sa.Column("hosts", sa.JSON(), nullable=False),
        sa.Column("squash", sa.String(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_shares_plan_plans"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["plan", "place"],
            ["places.plan", "places.id"],
            name=op.f("fk_shares_plan_places"),
            initially="DEFERRED",
            deferrable=True,
        ),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_shares")),
    )
    op.create_table(
        "services",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("only", sa.JSON(), nullable=True),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_services_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_services")),
    )


def downgrade() -> None:
    op.drop_table("services")
    op.drop_table("shares")
    op.drop_column("plans", "host_rules")
