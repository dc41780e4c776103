"""The edits that turn one plan into another."""

from collections.abc import Iterator, Mapping

from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import Edit, SetGrant, SetTarget, SetTitle, put, remove
from yardgate.core.model.kinds import KINDS, PLACES
from yardgate.core.model.plan import Plan


def difference(before: Plan, after: Plan) -> tuple[Edit, ...]:
    """What is added or changed first, then grants, what is gone last."""
    edits: list[Edit] = []
    said = None if before.purpose == after.purpose else after.purpose
    if (before.name, before.office) != (after.name, after.office) or said is not None:
        edits.append(SetTitle(after.name, after.office, said))
    for kind in KINDS:
        old = kind.of(before)
        edits += [put(kind, record) for key, record in kind.of(after).items() if old.get(key) != record]
    if before.target != after.target:
        edits.append(SetTarget(after.target))
    for place in after.places:
        edits += _grant_edits(place, before.grants.get(place, {}), after.grants.get(place, {}))
    for kind in reversed(KINDS):
        gone = kind.of(before).keys() - kind.of(after).keys()
        if kind is PLACES:  # with a place goes what lies in it
            gone = {place for place in gone if before.places[place].parent not in gone}
        edits += [remove(kind, record_id) for record_id in sorted(gone)]
    return tuple(edits)


def _grant_edits(place: str, before: Mapping[str, Level], after: Mapping[str, Level]) -> Iterator[Edit]:
    lines = [who for who in before if who in after]
    yield from (SetGrant(place, who, None) for who in before if who not in after)
    for at, (who, level) in enumerate(after.items()):
        moved = at >= len(lines) or lines[at] != who
        if moved:
            lines = [other for other in lines if other != who]
            lines.insert(at, who)
        if moved or before[who] != level:
            yield SetGrant(place, who, level, at if moved else None)
