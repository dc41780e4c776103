"""Where a plan goes, and what was carried out there step by step"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "destinations",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("destination", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_destinations_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", name=op.f("pk_destinations")),
    )
    op.create_table(
        "runs",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("top", sa.String(), nullable=False),
        sa.Column("destination", sa.JSON(), nullable=False),
        sa.Column("seconds", sa.Integer(), nullable=False),
        sa.Column("before", sa.Text(), nullable=False),
        sa.Column("steps", sa.Text(), nullable=False),
        sa.Column("questions", sa.Text(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("trouble", sa.Text(), nullable=False),
        sa.Column("until", sa.String()),
        sa.Column("ended", sa.String()),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_runs_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "number", name=op.f("pk_runs")),
    )
    op.create_table(
        "run_lines",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("at", sa.String(), nullable=False),
        sa.Column("said", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["plan", "run"], ["runs.plan", "runs.number"], name=op.f("fk_run_lines_plan_runs"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("plan", "run", "number", name=op.f("pk_run_lines")),
    )
    with op.batch_alter_table("rollouts") as rollouts:
        rollouts.add_column(sa.Column("run", sa.Integer()))


def downgrade() -> None:
    with op.batch_alter_table("rollouts") as rollouts:
        rollouts.drop_column("run")
    op.drop_table("run_lines")
    op.drop_table("runs")
    op.drop_table("destinations")
