"""The groups of an answer as groups of a plan: with a name of what they are for, and other groups in them where those are a part of them."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from yardgate.core.access.batch.resolve import Codes
from yardgate.core.model.names import fresh_id, ids_of
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Group, Plan
from yardgate.core.suggest.cover import CHANGE, PlaceGrant, Taken


class NewGroups:
    """Groups that a plan does not have yet, each with an id and a name that nothing else has."""

    def __init__(self, plan: Plan):
        self.plan, self.taken = plan, ids_of(plan)
        self.called = {fold(one.name) for some in (plan.groups.values(), plan.users.values()) for one in some}

    def group(self, people: Sequence[str], places: Sequence[str], needed: Codes, group: Taken) -> Group:
        """A group of an answer as one of the plan, named by the place where the fewest others have what it gives."""

        def worth(grant: PlaceGrant) -> tuple[int, int]:
            return grant.level, -int((needed[:, grant.place] > 0).sum())

        best = max(group.grants, key=worth)
        return self.of(frozenset(people[one] for one in group.members), places[best.place], best.level)

    def of(self, members: frozenset[str], place: str, level: int) -> Group:
        """A group of some people that is there for a place. level: as a code of a table."""
        name = self._name(members, place, level)
        found = fresh_id(name, self.taken)
        self.taken.add(found)
        self.called.add(fold(name))
        return Group(id=found, name=name, members=members)

    def _name(self, members: frozenset[str], place: str, level: int) -> str:
        """Whose part it is, where most of a group are in it, and what it is for."""
        if len(members) == 1:
            return self._free(f"{self.plan.users[min(members)].name}-access")
        where = self.plan.places[place].name.lower().replace(" ", "-")
        return self._free(f"{self._whose(members)}{where}-{'editors' if level == CHANGE else 'readers'}")

    def _free(self, plain: str) -> str:
        name, number = plain, 2
        while fold(name) in self.called:
            name, number = f"{plain}-{number}", number + 1
        return name

    def _whose(self, members: frozenset[str]) -> str:
        """The smallest group that there is with all of them in it, if they are at least half of it."""
        around = [
            group
            for group in self.plan.groups.values()
            if members <= group.members and len(group.members) <= 2 * len(members) and not group.gone
        ]
        if len(members) < 2 or not around:
            return ""
        smallest = min(around, key=lambda group: (len(group.members), group.name))
        return smallest.name.lower().replace(" ", "-") + "-"


def nested(groups: Sequence[Group], parts: Mapping[str, Mapping[str, frozenset[str]]]) -> tuple[Group, ...]:
    """The groups with other groups in the place of some of their people: groups that there are, as told with their people, and smaller ones of
    these, which come first. Whoever joins one of those later has what its members have."""
    in_order = sorted(groups, key=lambda group: len(group.members))
    return tuple(_with_parts(group, parts.get(group.id, {}), in_order[:at]) for at, group in enumerate(in_order))


def _with_parts(group: Group, there: Mapping[str, frozenset[str]], smaller: Sequence[Group]) -> Group:
    inside = set(there)
    left = group.members.difference(*there.values())
    fitting = {one.id: one.members for one in smaller if one.members < group.members}
    while fitting:
        best = max(fitting, key=lambda part: len(left & fitting[part]))
        if len(left & fitting[best]) < 2:
            break
        inside.add(best)
        left -= fitting.pop(best)
    return replace(group, members=frozenset(left | inside))
