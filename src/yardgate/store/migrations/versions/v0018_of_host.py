"""Accounts and shares that a host has for itself; shares with lists of their own, and as whom they let people act"""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    for table in ("users", "groups", "shares"):
        op.add_column(table, sa.Column("of_host", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.add_column("plans", sa.Column("nfs_domain", sa.String(), server_default="", nullable=False))
    op.add_column("shares", sa.Column("grants", sa.JSON(none_as_null=True), nullable=True))
    for column in ("acts_as", "acts_as_group"):
        op.add_column("shares", sa.Column(column, sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("plans", "nfs_domain")
    for column in ("grants", "acts_as", "acts_as_group"):
        op.drop_column("shares", column)
    for table in ("users", "groups", "shares"):
        op.drop_column(table, "of_host")
