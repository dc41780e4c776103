"""Whether folders above an NFS share ask the right to enter"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("plans", sa.Column("nfs_way", sa.String(), server_default="asked", nullable=False))


def downgrade() -> None:
    op.drop_column("plans", "nfs_way")
