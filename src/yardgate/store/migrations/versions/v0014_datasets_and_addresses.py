"""What a pool is on its host, how many snapshots are kept, and how clients reach the server"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("plans", sa.Column("addresses", sa.JSON(), server_default="[]", nullable=False))
    op.add_column("places", sa.Column("file_system", sa.String(), server_default="folder", nullable=False))
    op.add_column("places", sa.Column("snapshots", sa.JSON(none_as_null=True)))
    op.add_column("pushes", sa.Column("snapshots", sa.JSON(), server_default="[]", nullable=False))


def downgrade() -> None:
    op.drop_column("pushes", "snapshots")
    op.drop_column("places", "snapshots")
    op.drop_column("places", "file_system")
    op.drop_column("plans", "addresses")
