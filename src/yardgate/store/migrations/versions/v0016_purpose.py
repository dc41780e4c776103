"""What an appliance is for"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    op.add_column("plans", sa.Column("purpose", sa.Text(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("plans", "purpose")
