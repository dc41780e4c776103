"""Promises, findings that are accepted, jobs of accounts, quotas and case of places"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column("plans", sa.Column("wildcards", sa.String(), server_default="both", nullable=False))
    op.add_column("users", sa.Column("jobs", sa.JSON(), server_default="[]", nullable=False))
    op.add_column("places", sa.Column("quota", sa.Integer(), nullable=True))
    op.add_column("places", sa.Column("case_sensitive", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.create_table(
        "promises",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("who", sa.String(), nullable=False),
        sa.Column("must", sa.Boolean(), nullable=False),
        sa.Column("act", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("but", sa.JSON(), nullable=False),
        sa.Column("over", sa.String(), nullable=True),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_promises_plan_plans"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["plan", "place"],
            ["places.plan", "places.id"],
            name=op.f("fk_promises_plan_places"),
            initially="DEFERRED",
            deferrable=True,
        ),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_promises")),
    )
    op.create_table(
        "accepted",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("until", sa.Date(), nullable=True),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_accepted_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_accepted")),
    )


def downgrade() -> None:
    op.drop_table("accepted")
    op.drop_table("promises")
    op.drop_column("places", "case_sensitive")
    op.drop_column("places", "quota")
    op.drop_column("users", "jobs")
    op.drop_column("plans", "wildcards")
