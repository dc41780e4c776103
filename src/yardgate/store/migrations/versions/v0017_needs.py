"""What people need, whatever the plan gives them"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.create_table(
        "needs",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("who", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("wish", sa.String(), nullable=False),
        sa.Column("asked_by", sa.Text(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_needs_plan_plans"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["plan", "place"],
            ["places.plan", "places.id"],
            name=op.f("fk_needs_plan_places"),
            initially="DEFERRED",
            deferrable=True,
        ),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_needs")),
    )


def downgrade() -> None:
    op.drop_table("needs")
