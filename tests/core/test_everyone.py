"""Trying everyone: each surprise is one gate by gate, and none is left out."""

from hypothesis import given, settings

from tests.conftest import ON
from tests.gates import everything
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.comparison import gets
from yardgate.core.access.everyone import everyone
from yardgate.core.access.outcome import outcome
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import Plan


@settings(max_examples=times(150, 1000))
@given(plans(shares=True))
def test_every_surprise_is_one_and_none_is_left_out(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    told, cells = gets(found), everything(plan)
    tried = everyone(told)
    reached = [place for place in plan.places if found.ways_to(place)]
    levels = {(u, p): max(cells.get((u, p, x), Level.NA) for x in ("smb", "nfs")) for u in plan.users for p in reached}
    beside = {
        state: {(off.subject, off.place, off.granted, off.gets) for off in told.off(state)}
        for state in ("more", "less")
    }
    assert {"more": set(tried.more), "less": set(tried.less)} == beside
    assert all(levels.get((s.subject, s.place), s.other) == s.other != s.one for s in (*tried.more, *tried.less))
    active = [user for user in plan.users if plan.users[user].active(ON)]
    assert set(tried.nowhere) == {u for u in active if all(levels[u, p] < Level.RO for p in reached)}
    both = [p for p in reached if {way.protocol for way in found.ways_to(p)} == {"smb", "nfs"}]
    assert {(s.subject, s.place) for s in tried.differ} == {
        (u, p) for u in plan.users for p in both if cells[u, p, "smb"] != cells[u, p, "nfs"]
    }
    ends = [place for place in reached if plan.places[place].kind != "pool"]
    assert set(tried.unwritten) == {p for p in ends if all(levels[u, p] != Level.RW for u in plan.users)}
    assert set(tried.open_to_all) == {p for p in ends if active and all(levels[u, p] == Level.RW for u in active)}
