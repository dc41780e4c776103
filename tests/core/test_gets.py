"""What everybody gets beside what is granted to them: the same one by one, by the gates."""

from hypothesis import given, settings

from tests.conftest import ON
from tests.gates import everything
from tests.plans import plans
from tests.thorough import times
from yardgate.core.gets import STATES, gets, said_at
from yardgate.core.membership import token
from yardgate.core.outcome import outcome
from yardgate.core.plan import Plan
from yardgate.core.reason import grants_gate
from yardgate.core.resolve import resolve
from yardgate.core.rights import LEVELS, Level


@settings(max_examples=times(200, 2000))
@given(plans(shares=True))
def test_every_cell_is_told_as_the_gates_have_it(plan: Plan) -> None:
    found = outcome(resolve(plan, ON))
    told, cells, laying = gets(found), everything(plan), found.matrix.laying
    for place, stands in told.places.items():
        at, ways = said_at(found, place), found.ways_to(place)
        for number, user in enumerate(found.matrix.counting.subjects[: found.matrix.counting.users]):
            level = max((cells.get((user, place, protocol), Level.NA) for protocol in ("smb", "nfs")), default=Level.NA)
            gate = None if at is None else grants_gate(plan, at, laying.get(at), token(plan, user))
            granted = level if gate is None else gate.level
            assert LEVELS[stands.granted[number]] == granted
            runs = {plan.shares[way.share].administrator for way in ways if way.protocol == "smb"} & {
                *token(plan, user)
            }
            said = {line.level for line in gate.lines} if gate is not None else set()
            boss = gate is not None and any(line.tier == "admin" for line in gate.lines)
            if not ways:
                state = "not shared"
            elif plan.users[user].active(ON) and level < granted:
                state = "less"
            elif (
                plan.users[user].active(ON)
                and level > max(granted, Level.PT)
                and not runs
                and plan.users[user].uid != 0
            ):
                state = "more"
            elif level == Level.NA and not said:
                state = "not set"
            else:
                state = "settled" if len(said) > 1 and not boss else "as granted"
            assert STATES[stands.state[number]] == state, (user, place, level, granted)
