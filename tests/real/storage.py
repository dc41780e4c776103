"""Random storage for comparing with real systems: a seeded plan with lists of one style, many more shapes than a tidy office has."""

import random
from collections.abc import Sequence
from dataclasses import replace

from yardgate.core.access.combining import RULES
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry
from yardgate.core.acl.nfs4 import FLAGS, GROUP, OWNER
from yardgate.core.acl.rights import CHANGE, FULL, GRANTABLE, PASS, READ, WRITE, Level
from yardgate.core.model.plan import EVERYONE, ROOT, Group, Place, Plan, Target, User

FIRST_UID, FIRST_GID = 20000, 21000


def people(rng: random.Random, users: int = 6, groups: int = 5) -> tuple[dict[str, User], dict[str, Group]]:
    """Users with a primary group or none, one of them perhaps root; groups nested in any shape."""
    user_ids, group_ids = [f"u{i}" for i in range(users)], [f"g{i}" for i in range(groups)]
    root = rng.choice([None, None, None, *user_ids])
    made = {
        user: User(
            id=user,
            name=user,
            uid=0 if user == root else FIRST_UID + number,
            primary_group=rng.choice([None, *group_ids]),
        )
        for number, user in enumerate(user_ids)
    }
    found = {}
    for number, group in enumerate(group_ids):
        members = rng.sample(user_ids, rng.randint(0, 3)) + (rng.sample(group_ids, 1) if rng.random() < 0.3 else [])
        found[group] = Group(id=group, name=group, gid=FIRST_GID + number, members=frozenset(members))
    return made, found


def posix_entries(rng: random.Random, users: Sequence[str], groups: Sequence[str]) -> tuple[PosixEntry, ...]:
    keys = [("user", ""), ("group", ""), ("other", ""), ("mask", "")]
    keys += [("user", user) for user in users] + [("group", group) for group in groups]
    chosen = rng.sample(keys, rng.randint(0, 7))
    perms = [0, 1, 2, 3, 4, 5, 6, 7, 5, 7, 7, 1]
    return tuple(PosixEntry(tag, who, rng.choice(perms)) for tag, who in chosen)  # type: ignore[arg-type]


def own_list(rng: random.Random, style: str, users: Sequence[str], groups: Sequence[str]) -> OwnList:
    match style:
        case "posix":
            default = posix_entries(rng, users, groups) if rng.random() < 0.6 else None
            sticky, setgid = rng.random() < 0.15, rng.random() < 0.4
            return Posix(posix_entries(rng, users, groups), default, setgid, sticky)
        case "mode":
            easy = rng.choice([0o755, 0o750, 0o770, 0o2770, 0o1777, 0o711, 0o777])
            return Mode(rng.choice([easy, rng.randrange(0o10000)]))
        case _:
            return Ordered(tuple(ordered_entry(rng, users, groups) for _ in range(rng.randint(0, 8))))


def ordered_entry(rng: random.Random, users: Sequence[str], groups: Sequence[str]) -> Entry:
    who = rng.choice([*users, *groups, OWNER, GROUP, EVERYONE])
    mask = rng.choice([READ, WRITE, FULL, CHANGE, PASS, 1 << rng.randrange(9), rng.randrange(1, FULL) & FULL or READ])
    flags = rng.choice([0, 1, 2, 3, 3, 3, rng.randrange(FLAGS + 1)])
    return Entry("deny" if rng.random() < 0.35 else "allow", who, mask, flags)


def by_hand(seed: int, style: str, places: int = 7) -> Plan:
    """A tree whose places have lists of `style` by hand, cut, adding or following, with owners and groups of every kind."""
    rng = random.Random(f"{style}-{seed}")
    users, groups = people(rng)
    made: dict[str, Place] = {}
    for number in range(places):
        parent = rng.choice(list(made)) if made else None
        inside = made[parent].kind if parent else None
        kind = (
            "pool"
            if parent is None
            else "folder"
            if inside == "folder"
            else rng.choice(["folder", "folder", "dataset"])
        )
        styles = {"kernel": ["posix", "posix", "mode"]}.get(style, [style])
        own = own_list(rng, rng.choice(styles), list(users), list(groups))
        if style == "kernel" and number < 2 and rng.random() < 0.8:  # or few would get any deeper
            own = (
                Mode(0o755)
                if rng.random() < 0.5
                else Posix((PosixEntry("group", "g0", 5), PosixEntry("other", "", 1)), None)
            )
        place_id = f"p{number}"
        made[place_id] = Place(
            id=place_id,
            name=f"place {number}",
            kind=kind,  # type: ignore[arg-type]
            parent=parent,
            owner=rng.choice([None, None, ROOT, *users]),
            group=rng.choice([None, None, ROOT, *groups]),
            acl=own if parent is None or rng.random() < 0.6 else None,
            inheritance_stops=rng.random() < 0.2,
            enforced_by="storage" if parent is None else None,
        )
    return Plan(name="random", target=Target(), users=users, groups=groups, places=made)


def half_planned(plan: Plan, rng: random.Random) -> Plan:
    """Now and then, a tree in which nobody planned the pool's list, and in some places nobody planned any."""
    if rng.random() < 0.75:
        return plan
    planned = {place for place in plan.places if rng.random() < 0.4 and plan.places[place].parent is not None}
    places = {
        place.id: place if place.id in planned else replace(place, acl=None, inheritance_stops=False, enforced_by=None)
        for place in plan.places.values()
    }
    return replace(plan, places=places)


def granted(seed: int, style: str, places: int = 6) -> Plan:
    """A tree whose lists are compiled from random grants under a random clash rule."""
    rng = random.Random(f"granted-{style}-{seed}")
    plan = by_hand(seed, style, places)
    empty: dict[str, OwnList] = {"posix": Posix(), "mode": Mode(), "ordered": Ordered()}
    tree = {
        place.id: replace(
            place, acl=empty[style] if place.kind == "pool" else None, inheritance_stops=rng.random() < 0.15
        )
        for place in plan.places.values()
    }
    whos = [*plan.users, *plan.groups, EVERYONE]
    grants: dict[str, dict[str, Level]] = {}
    for place in tree:
        chosen = rng.sample(whos, rng.randint(0, 5))
        if chosen:
            grants[place] = {who: rng.choice(GRANTABLE) for who in chosen}
    tiers, within = rng.choice(RULES)
    target = Target(precedence=tiers, combining=within, baseline=rng.choice([None, *plan.groups]))
    return replace(plan, places=tree, grants=grants, target=target)
