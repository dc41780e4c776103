"""Lists pushed down over what lies in folders"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.create_table(
        "pushes",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("destination", sa.JSON(), nullable=False),
        sa.Column("there", sa.Text(), nullable=False),
        sa.Column("folders", sa.JSON(), nullable=False),
        sa.Column("does", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("counts", sa.JSON(), nullable=False),
        sa.Column("trouble", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_pushes_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "number", name=op.f("pk_pushes")),
    )
    op.create_table(
        "push_parts",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("folder", sa.String(), nullable=False),
        sa.Column("things", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_push_parts_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "number", name=op.f("pk_push_parts")),
    )


def downgrade() -> None:
    op.drop_table("push_parts")
    op.drop_table("pushes")
