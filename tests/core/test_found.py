"""What somebody finds at an appliance by its own records is what the plan says that they find, which was compiled to these records."""

import pytest

from tests.conftest import ON
from tests.real.test_host import office
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.walk import walk
from yardgate.core.host.compiled import compiled
from yardgate.core.host.evaluate import found, groups_of
from yardgate.core.host.probe import Abilities
from yardgate.core.model.plan import GUEST, LOCAL, Plan
from yardgate.core.model.share import Over

WITH_MODES = [seed for seed in range(45) if seed % 3 != 2]  # the others have a server that asks no right to pass


@pytest.mark.parametrize("plan", [*map(office, WITH_MODES), demo.plan()], ids=lambda plan: plan.name)
def test_the_records_give_what_the_plan_says(plan: Plan) -> None:
    matrix = resolve(plan, ON)
    system = compiled(matrix, "/srv").system
    for share in (share for share in plan.shares.values() if share.smb):
        for who in [*(user.id for user in plan.users.values() if user.origin == LOCAL and user.uid != 0), GUEST]:
            visits = walk(plan, who, Over(share.id, "smb"), ON, matrix.storage)
            depth = len(plan.path(share.place))
            folders = ["/".join(plan.places[p].name for p in plan.path(v.place)[depth:]) for v in visits]
            account = "" if who == GUEST else plan.users[who].name
            answers = found(system, share.name, account, groups_of(system, account), folders, ON)
            assert (answers is not None) == visits[0].shown, (share.name, who)
            if answers is not None:
                assert answers == [Abilities(v.looks, v.adds) for v in visits], (share.name, who)
