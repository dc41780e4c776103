"""Every cell of a plan over every protocol, gate by gate: what the packed ways of saying the same are held against."""

from tests.conftest import ON
from yardgate.core.access.bitsets import count
from yardgate.core.access.paths import PROTOCOLS, explain_over, is_on
from yardgate.core.access.storage import storage_state
from yardgate.core.acl.rights import Level
from yardgate.core.model.plan import GUEST, Plan
from yardgate.core.model.share import Over

Cells = dict[tuple[str, str, str], Level]


def everything(plan: Plan) -> Cells:
    """The best over the shares that reach a place: (who, place, protocol) -> level, guests among them."""
    found: Cells = {}
    storage = storage_state(plan, count(plan, ON))
    for share in plan.shares.values():
        for protocol in PROTOCOLS:
            if not share.over(protocol) or not is_on(plan, protocol):
                continue
            for place in plan.places:
                for who in (*plan.users, GUEST) if share.place in plan.path(place) else ():
                    level = explain_over(plan, who, place, Over(share.id, protocol), ON, storage).level
                    found[who, place, protocol] = max(found.get((who, place, protocol), Level.NA), level)
    return found


def moved(before: Plan, after: Plan) -> set[tuple[str, str]]:
    """(who, place) of the cells that come out differently over some protocol, of those that both plans have."""
    then, now = everything(before), everything(after)
    both = before.places.keys() & after.places.keys()
    return {
        (who, place)
        for who, place, protocol in then.keys() | now.keys()
        if place in both and then.get((who, place, protocol), Level.NA) != now.get((who, place, protocol), Level.NA)
    }
