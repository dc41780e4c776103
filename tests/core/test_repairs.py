"""Random plans: who gets more or less than is granted is found, once each; what a fix announces is what it does; a right repair costs nobody."""

from collections import Counter

from hypothesis import given, settings

from tests.conftest import ON
from tests.gates import moved
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.comparison import LESS, MORE, gets
from yardgate.core.access.outcome import Outcome, outcome
from yardgate.core.edits.apply import apply
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.findings import Case, find
from yardgate.core.policy.impact import effect

RIGHT = {
    "more-than-granted",
    "less-than-granted",
    "refusal-idle",
    "personal-repeats",
    "empty-group",
    "owner-limited",
    "host-never",
}


def off(found: Outcome) -> dict[str, set[tuple[str, str]]]:
    """Who (user or guest), where: those who get more, and those who get less than is granted."""
    users = found.matrix.counting.users
    whos = [*enumerate(found.matrix.counting.subjects[:users]), (-1, GUEST)]
    cells = {(who, place): stands.state[number] for place, stands in gets(found).places.items() for number, who in whos}
    return {
        kind: {cell for cell, one in cells.items() if one == state}
        for kind, state in (("more-than-granted", MORE), ("less-than-granted", LESS))
    }


@settings(max_examples=times(60, 2000))
@given(plans(shares=True))
def test_whoever_gets_something_else_is_found_and_every_fix_does_what_it_says(plan: Plan) -> None:
    now = outcome(resolve(plan, ON))
    before, kept, findings = off(now), keep(now), find(Case(now))
    assert max(Counter(finding.id for finding in findings).values(), default=1) == 1
    for kind, cells in before.items():
        assert Counter(cell for finding in findings if finding.kind == kind for cell in finding.cells) == Counter(cells)
    for finding in findings:
        if not finding.repair.edits:
            continue
        announced = effect(kept, finding.repair.edits)
        after_plan, _ = apply(plan, finding.repair.edits)
        assert {(shift.subject, shift.place) for shift in announced.shifts} == moved(plan, after_plan), finding
        if finding.kind in RIGHT:
            assert announced.price.nothing, finding
            assert not announced.price.hosts, finding
        if announced.price.nothing:
            after = off(outcome(resolve(after_plan, ON)))
            for kind, cells in after.items():
                new = cells - before[kind]
                assert not [c for c in new if now.ways_to(c[1], "smb" if c[0] == GUEST else None)], finding
