"""Finding who is meant by a name, and fresh ids for new objects."""

import re
import unicodedata
from collections.abc import Collection

from yardgate.core.plan import BUILT_IN, EVERYONE, ROOT, Plan, fold


class Directory:
    """Every name by which a plan's users, groups and places can be called, looked up in any case."""

    def __init__(self, plan: Plan):
        self.users: dict[str, list[str]] = {}
        self.groups: dict[str, list[str]] = {}
        self.places: dict[str, list[str]] = {}
        for user in plan.users.values():
            for name in {fold(n) for n in (user.name, user.full_name, *user.aliases) if n}:
                self.users.setdefault(name, []).append(user.id)
        for group in plan.groups.values():
            self.groups.setdefault(fold(group.name), []).append(group.id)
        for place in plan.places.values():
            for name in {fold(place.name), fold(plan.path_name(place.id))}:
                self.places.setdefault(name, []).append(place.id)

    def who(self, name: str) -> tuple[str, ...]:
        """Ids of all whom a name may mean: plain, `user:…` or `group:…`; more than one is ambiguous, none is unknown."""
        kind, _, rest = name.partition(":")
        if rest and fold(kind) in ("user", "person", "service"):
            return tuple(self.users.get(fold(rest.strip()), ()))
        if rest and fold(kind) == "group":
            return tuple(self.groups.get(fold(rest.strip()), ()))
        key = fold(name)
        found = (*self.users.get(key, ()), *self.groups.get(key, ()))
        return found or ((EVERYONE,) if key == EVERYONE else ())

    def place(self, name: str) -> tuple[str, ...]:
        """Ids of all places that a name or a path from the pool (pool/dataset/folder) may mean."""
        return tuple(self.places.get(fold(name.strip().strip("/")), ()))


def fresh_id(name: str, taken: Collection[str]) -> str:
    """An id made from a name, that nothing else has: lower case letters, digits and dashes."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:40] or "object"
    if base in (*BUILT_IN, ROOT) or base in taken:
        number = 2
        while f"{base}-{number}" in taken:
            number += 1
        return f"{base}-{number}"
    return base
