"""Storage lists: what places own, who owns them, what carries their grants; patterns; two properties of the target"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    for column in (
        sa.Column("owner", sa.String(), nullable=True),
        sa.Column("group", sa.String(), nullable=True),
        sa.Column("own", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("cut", sa.Boolean(), server_default=sa.false(), nullable=False),
        sa.Column("carried", sa.String(), nullable=True),
    ):
        op.add_column("places", column)
    op.add_column("plans", sa.Column("entering", sa.String(), server_default="asked", nullable=False))
    op.add_column("plans", sa.Column("attributes_open", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.create_table(
        "patterns",
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("own", sa.JSON(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["plan"], ["plans.id"], name=op.f("fk_patterns_plan_plans"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("plan", "id", name=op.f("pk_patterns")),
    )


def downgrade() -> None:
    op.drop_table("patterns")
    for column in ("attributes_open", "entering"):
        op.drop_column("plans", column)
    for column in ("carried", "cut", "own", "group", "owner"):
        op.drop_column("places", column)
