"""How datasets keep files: access times, sync, compression"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    op.add_column("places", sa.Column("options", sa.JSON(none_as_null=True)))


def downgrade() -> None:
    op.drop_column("places", "options")
