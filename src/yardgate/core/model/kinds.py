"""The kinds of record that a plan has, in one table: edits, comparison, plan file and database go by it.

A new kind is a record, its checks, a line here, its two edits (`edits.records`) and a table (`store.tables`).
"""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.checks import (
    Trouble,
    accepted_troubles,
    directory_troubles,
    grant_troubles,
    group_troubles,
    name_clashes,
    need_troubles,
    pattern_troubles,
    place_troubles,
    plan_troubles,
    promise_troubles,
    service_troubles,
    share_troubles,
    target_troubles,
    user_troubles,
)
from yardgate.core.model.directory import Directory
from yardgate.core.model.needs import Need
from yardgate.core.model.plan import Group, Pattern, Place, Plan, User
from yardgate.core.model.share import Service, Share

PlanRecord = User | Group | Place | Pattern | Directory | Share | Service | Promise | Need | Accepted


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of record. part: the field of `Plan` that has its records by id. key: what one is called in an edit.

    one, many: what one and several are called in a message. most: how many a plan may have, far beyond a small office and
    little enough to be worked out while somebody waits.
    """

    part: str
    key: str
    record: type
    one: str
    many: str
    most: int
    troubles: Callable[[Plan, Any], Iterator[Trouble]]

    def of(self, plan: Plan) -> Mapping[str, Any]:
        """The records of this kind, by id."""
        found: Mapping[str, Any] = getattr(plan, self.part)
        return found


DIRECTORIES = Kind("directories", "directory", Directory, "directory", "directories", 50, directory_troubles)
USERS = Kind("users", "user", User, "user", "people", 50_000, user_troubles)
GROUPS = Kind("groups", "group", Group, "group", "groups", 20_000, group_troubles)
PLACES = Kind("places", "place", Place, "place", "places", 20_000, place_troubles)
PATTERNS = Kind("patterns", "pattern", Pattern, "pattern", "patterns", 1_000, pattern_troubles)
SHARES = Kind("shares", "share", Share, "share", "shares", 5_000, share_troubles)
SERVICES = Kind("services", "service", Service, "service", "services", 3, service_troubles)
PROMISES = Kind("promises", "promise", Promise, "promise", "promises", 5_000, promise_troubles)
NEEDS = Kind("needs", "need", Need, "need", "needs", 1_000_000, need_troubles)
ACCEPTED = Kind("accepted", "accepted", Accepted, "accepted finding", "accepted findings", 100_000, accepted_troubles)

KINDS = (DIRECTORIES, USERS, GROUPS, PLACES, PATTERNS, SHARES, SERVICES, PROMISES, NEEDS, ACCEPTED)
"""What is referred to comes before what refers to it."""
NAMED = (DIRECTORIES, USERS, GROUPS, PLACES, PATTERNS)
"""Kinds among whose records no two may go by one name."""
MOST_GRANTS = 1_000_000


def check(plan: Plan) -> tuple[Trouble, ...]:
    """Everything that is wrong with a plan; empty for a good one."""
    return (
        *plan_troubles(plan),
        *(trouble for kind in KINDS for record in kind.of(plan).values() for trouble in kind.troubles(plan, record)),
        *(trouble for place, grants in plan.grants.items() for trouble in grant_troubles(plan, place, grants)),
        *target_troubles(plan, plan.target),
        *name_clashes(plan),
    )
