"""What was put on the appliance, or read from it"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_table(
        "rollouts",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("top", sa.String(), nullable=False),
        sa.Column("steps", sa.JSON(), nullable=False),
        sa.Column("system", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_rollouts_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "number", name=op.f("pk_rollouts")),
    )


def downgrade() -> None:
    op.drop_table("rollouts")
