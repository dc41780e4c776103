"""What every person of a plan gets of something that names some of them and of their groups: worked out once for all who count as the same names."""

from collections.abc import Callable, Collection, Mapping
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.membership import token
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import Plan

Levels = NDArray[np.uint8]
"""A level each, by its code, in the order of the people: shape (people,)."""
APART = 60  # groups that are told apart in one number


class Everybody:
    """people: ids of the plan's people and services but for the host's own. enabled: which of them may sign in, shape (people,)."""

    def __init__(self, plan: Plan):
        self.plan = plan
        self.people = tuple(user.id for user in plan.users.values() if not user.of_host)
        self.enabled = np.array([plan.users[user].enabled for user in self.people], dtype=bool)
        self._at = {user: at for at, user in enumerate(self.people)}
        self._in: dict[str, list[int]] = {}
        for at, user in enumerate(self.people):
            for who in token(plan, user):
                self._in.setdefault(who, []).append(at)
        self.alike = lru_cache(maxsize=50)(self._alike)
        self._token = lru_cache(maxsize=10_000)(lambda user: token(plan, user))

    def levels(self, names: frozenset[str], of: Callable[[Collection[str]], Level]) -> Levels:
        """What each gets. of: what somebody gets by all that they count as, of which only these names matter."""
        first, which = self.alike(names)
        each = [of(self._token(self.people[at])).code for at in first]
        return np.array(each, dtype=np.uint8)[which]

    def _alike(self, names: frozenset[str]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
        """The first of all who count as the same of some names, and of which of these first ones each is: shapes (kinds,) and (people,)."""
        found = np.zeros(len(self.people), dtype=np.int64)
        kinds = 1
        for who in sorted(name for name in names if name in self.plan.groups):
            if kinds > 1 << APART:
                found = np.unique(found, return_inverse=True)[1].astype(np.int64)
                kinds = len(self.people)
            found[self._in.get(who, [])] += kinds
            kinds *= 2
        own = [self._at[name] for name in names if name in self._at]
        found[own] = -1 - np.arange(len(own))
        _, first, which = np.unique(found, return_index=True, return_inverse=True)
        return first, which

    def by_name(self, levels: Levels, some: NDArray[np.intp] | None = None) -> Mapping[str, Level]:
        """Levels by the ids of those who get them. some: of which of them, by their numbers."""
        numbers = range(len(self.people)) if some is None else some
        return {self.people[at]: LEVELS[levels[at]] for at in numbers}
