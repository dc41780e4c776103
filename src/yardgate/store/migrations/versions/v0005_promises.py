"""Promises, and findings that are accepted"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
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
