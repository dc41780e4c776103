"""What an appliance has is known of one appliance: rollouts say of which"""

import json

import sqlalchemy as sa
from alembic import op
from pydantic import TypeAdapter

from yardgate.core.host.steps import Destination

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.add_column("rollouts", sa.Column("appliance", sa.String(), nullable=False, server_default="papers"))
    bind = op.get_bind()
    destinations = TypeAdapter(Destination)
    for plan, said in bind.execute(sa.text("SELECT plan, destination FROM destinations")).all():
        where = destinations.validate_python(json.loads(said), strict=False)
        statement = sa.text("UPDATE rollouts SET appliance = :appliance WHERE plan = :plan")
        bind.execute(statement, {"appliance": where.appliance, "plan": plan})
