"""Whether folders above an NFS share ask the right to enter; earlier versions and deleted files of a share; one place each; quotas of groups"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("plans", sa.Column("nfs_way", sa.String(), server_default="asked", nullable=False))
    op.add_column("places", sa.Column("each", sa.JSON(), nullable=True))
    op.add_column("places", sa.Column("group_quotas", sa.JSON(), server_default="[]", nullable=False))
    op.add_column("places", sa.Column("of", sa.String(), nullable=True))
    for name in ("versions", "recycle"):
        op.add_column("shares", sa.Column(name, sa.Boolean(), server_default=sa.false(), nullable=False))


def downgrade() -> None:
    for name in ("recycle", "versions"):
        op.drop_column("shares", name)
    op.drop_column("places", "group_quotas")
    op.drop_column("places", "of")
    op.drop_column("places", "each")
    op.drop_column("plans", "nfs_way")
