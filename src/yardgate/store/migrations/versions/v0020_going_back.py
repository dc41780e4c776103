"""Going back to snapshots of datasets"""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    op.add_column("pushes", sa.Column("back_to", sa.String(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("pushes", "back_to")
