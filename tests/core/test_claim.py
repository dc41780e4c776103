"""Numbers that a client claims: exactly those count, whoever has them in the plan."""

from dataclasses import replace

import pytest
from hypothesis import assume, given, settings

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.auth_sys import Claim, claim, claimed
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.membership import token
from yardgate.core.access.paths import identity, unclaimed
from yardgate.core.access.walk import walk
from yardgate.core.model.plan import Plan, User
from yardgate.core.model.share import Over


@settings(max_examples=times(100, 1000))
@given(plans(shares=True))
def test_claiming_all_of_somebodys_numbers_is_walking_as_them(plan: Plan) -> None:
    shares = [share.id for share in plan.shares.values() if share.nfs]
    assume(shares)
    matrix = resolve(plan, ON)
    numbers = [group.gid for group in plan.groups.values()]
    uids = [user.uid for user in plan.users.values()]
    for user in plan.users.values():
        ways = token(plan, user.id)
        groups = [plan.groups[who] for who in ways if who in plan.groups]
        whole = user.uid is not None and uids.count(user.uid) == 1 and None not in [group.gid for group in groups]
        if not whole or any(numbers.count(group.gid) > 1 for group in groups) or unclaimed(plan, user.id, ways):
            continue
        groups.sort(key=lambda group: (group.id != user.primary_group, group.gid))
        seen, who = claimed(plan, Claim(user.uid or 0, tuple(group.gid or 0 for group in groups)))
        assert who == user.id
        for share in shares:
            found = walk(seen, who, Over(share, "nfs"), ON, matrix.storage)
            assert [replace(visit, gate=None) for visit in found] == [  # type: ignore[arg-type]
                replace(visit, gate=None)  # type: ignore[arg-type]
                for visit in walk(plan, user.id, Over(share, "nfs"), ON, matrix.storage)
            ]


def test_numbers_that_nobody_has_are_somebody_new_with_no_group_but_those_claimed(quay: Plan) -> None:
    group = next(group for group in quay.groups.values() if group.gid is not None)
    seen, who = claimed(quay, Claim(54321, (group.gid or 0, 99999)))
    share = next(share.id for share in quay.shares.values() if share.nfs)
    assert seen.users[who] == User(id=who, name="uid 54321", uid=54321, primary_group=group.id)
    assert list(identity(seen, who, Over(share, "nfs"))[1]) == [who, group.id, "everyone"]


@pytest.mark.parametrize(
    ("text", "made"), [("0", Claim(0)), ("7:8,9", Claim(7, (8, 9))), ("7:", None), ("ann", None), ("7:8,", None)]
)
def test_how_numbers_are_written(text: str, made: Claim | None) -> None:
    assert claim(text) == made
    assert made is None or str(made) == text


@pytest.mark.parametrize(
    ("text", "why"), [("4294967295", "is not a number"), ("1:" + ",".join(["2"] * 18), "a primary group and 16 more")]
)
def test_what_no_client_can_claim(text: str, why: str) -> None:
    with pytest.raises(ValueError, match=why):
        claim(text)
