"""Finding who is meant by a name, and fresh ids for new objects."""

import re
import unicodedata
from collections.abc import Callable, Collection, Iterator

from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import BUILT_IN, EVERYONE, ROOT, Group, Plan, User


class Names:
    """Every name by which a plan's users, groups and places can be called, looked up in any case.

    An account is called by its name, a user also by full name and aliases. SHORT\\name and name@domain mean the account of one
    directory, and with the appliance's own name before or behind it the local one.
    """

    def __init__(self, plan: Plan):
        self.users: dict[str, list[str]] = {}
        self.groups: dict[str, list[str]] = {}
        self.places: dict[str, list[str]] = {}
        for user in plan.users.values():
            for name in {fold(n) for n in (user.name, user.full_name, *user.aliases, *_qualified(plan, user)) if n}:
                self.users.setdefault(name, []).append(user.id)
        for group in plan.groups.values():
            for name in {fold(n) for n in (group.name, *_qualified(plan, group))}:
                self.groups.setdefault(name, []).append(group.id)
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


def _qualified(plan: Plan, account: User | Group) -> Iterator[str]:
    """The names that say where an account comes from."""
    directory = plan.directories.get(account.origin)
    if directory is not None:
        yield f"{directory.name}\\{account.name}"
        yield f"{account.name}@{directory.domain}"
    elif plan.directories:
        yield f"{plan.name}\\{account.name}"
        yield f"{account.name}@{plan.name}"


def unix_trouble(name: str) -> str | None:
    """Why a name cannot be carried by Unix tools, or None (POSIX.1-2017 3.437, user name; 3.282, portable characters).

    A $ at the end is let pass, as useradd(8) does, for accounts of machines.
    """
    if name.startswith("-"):
        return "begins with a hyphen"
    odd = sorted(
        {char for char in name.removesuffix("$") if not (char.isascii() and char.isalnum()) and char not in "._-"}
    )
    if odd:
        return "has " + ", ".join("a space" if char == " " else show(char) for char in odd[:4])
    if name.isdigit():
        return "is a number, which tools take for a uid"
    return f"has {len(name)} characters; Linux takes at most 32" if len(name) > 32 else None


def sign_in_name(full_name: str) -> str:
    """The sign-in name that a full name suggests: its first and last part, in plain letters."""
    plain = unicodedata.normalize("NFKD", full_name).encode("ascii", "ignore").decode().lower()
    parts = re.sub(r"[^a-z0-9\s-]", "", plain).split()
    return f"{parts[0]}.{parts[-1]}" if len(parts) > 1 else "".join(parts)


def free_name(name: str, taken: Collection[str]) -> str:
    """The name, or the first of name-2, name-3, … that none of some folded names is."""
    if fold(name) not in taken:
        return name
    return f"{name}-{_free_number(lambda number: fold(f'{name}-{number}') in taken)}"


def _free_number(is_taken: Callable[[int], bool]) -> int:
    """A number from 2 on that is free and the one before it is not: of a thousand things of one name found by halves, not by counting up."""
    last, free = 1, 2
    while is_taken(free):
        last, free = free, free * 2
    while free - last > 1:
        between = (last + free) // 2
        last, free = (between, free) if is_taken(between) else (last, between)
    return free


def ids_of(plan: Plan) -> set[str]:
    """The ids that something new must not have: of everything that is called by one."""
    parts = (plan.users, plan.groups, plan.places, plan.patterns, plan.directories, plan.shares, plan.promises)
    return {one for part in parts for one in part}


def fresh_id(name: str, taken: Collection[str]) -> str:
    """An id made from a name, that nothing else has: lower case letters, digits and dashes."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:40] or "object"
    if base not in (*BUILT_IN, ROOT) and base not in taken:
        return base
    return f"{base}-{_free_number(lambda number: f'{base}-{number}' in taken)}"
