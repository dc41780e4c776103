"""What somebody has said of an appliance"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.add_column("plans", sa.Column("answered", sa.JSON(), server_default="[]", nullable=False))


def downgrade() -> None:
    op.drop_column("plans", "answered")
