"""What a name will be refused for, by the plan, a protocol or a host, said where it is typed; and one that works."""

import re
import unicodedata
from collections.abc import Collection
from typing import Literal

from yardgate.core.host.state import OF_THE_HOST
from yardgate.core.model.names import free_name, unix_trouble
from yardgate.core.model.naming import fold, name_trouble
from yardgate.core.model.plan import EVERYONE, LOCAL, ROOT, Plan
from yardgate.core.model.share import share_name_trouble

NamedKind = Literal["account", "group", "share", "place"]
LONGEST = {"account": 32, "share": 80}


def refused(
    plan: Plan, kind: NamedKind, name: str, *, itself: str | None = None, parent: str | None = None
) -> str | None:
    """Why something cannot be called so, or None. itself: the id of what has the name, or gets it. parent: of a place, the one it lies in."""
    if (why := name_trouble(name, separator="/" if kind == "place" else "")) is not None:
        return why
    if kind in ("account", "group") and fold(name) in (EVERYONE, ROOT):
        return "means something of its own on every appliance"
    if kind == "account" and (why := unix_trouble(name)) is not None:
        return why
    if kind == "account" and fold(name) in OF_THE_HOST:
        return "is a name that Linux hosts have for themselves"
    if kind == "share" and (why := share_name_trouble(name)) is not None:
        return why
    return "has somebody or something else already" if fold(name) in _taken(plan, kind, itself, parent) else None


def better(plan: Plan, kind: NamedKind, name: str, *, itself: str | None = None, parent: str | None = None) -> str:
    """The name most like it that is refused nowhere; nothing where there is nothing like it."""
    plain = " ".join("".join(char for char in name if char.isprintable()).split())
    if kind == "account":
        ascii_only = unicodedata.normalize("NFKD", plain).encode("ascii", "ignore").decode().lower()
        plain = re.sub(r"[^a-z0-9._-]+", "", re.sub(r"\s+", ".", ascii_only)).strip("-.")
        plain = f"user-{plain}" if plain.isdigit() else plain
    elif kind == "share":
        plain = re.sub(r"-*[\"\\/\[\]:|<>+=;,*?%]+-*", "-", plain).strip("-. ")
    elif kind == "place":
        plain = plain.replace("/", "-").strip(".")
    plain = plain[: LONGEST.get(kind, 200)]
    own_use = fold(plain) in (EVERYONE, ROOT, *(OF_THE_HOST if kind == "account" else ()))
    if own_use or (kind == "share" and share_name_trouble(plain) is not None):
        plain = f"{plain}-{'files' if kind == 'share' else kind}"
    found = free_name(plain, _taken(plan, kind, itself, parent)) if plain else ""
    return found if found and refused(plan, kind, found, itself=itself, parent=parent) is None else ""


def _taken(plan: Plan, kind: NamedKind, itself: str | None, parent: str | None) -> Collection[str]:
    """The folded names that others have."""
    match kind:
        case "account":
            others = [(user.id, user.name) for user in plan.users.values() if user.origin == LOCAL]
        case "group":
            others = [(group.id, group.name) for group in plan.groups.values() if group.origin == LOCAL]
        case "share":
            others = [(share.id, share.name) for share in plan.shares.values()]
        case "place":
            others = [(place, plan.places[place].name) for place in plan.inside.get(parent, ())]
    return {fold(name) for one, name in others if one != itself}
