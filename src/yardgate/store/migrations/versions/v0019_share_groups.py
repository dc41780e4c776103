"""Groups of a share's own, for people whom it would name"""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    op.add_column("plans", sa.Column("share_groups", sa.Boolean(), server_default=sa.false(), nullable=False))


def downgrade() -> None:
    op.drop_column("plans", "share_groups")
