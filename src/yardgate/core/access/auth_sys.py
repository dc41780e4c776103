"""Numbers that an NFS client claims, whoever sits at it (AUTH_SYS, RFC 5531 appendix A)."""

import re
from dataclasses import dataclass, replace

from yardgate.core.access.paths import CLAIMED
from yardgate.core.model.plan import LARGEST_NUMBER, Plan, User


@dataclass(frozen=True, slots=True)
class Claim:
    uid: int
    gids: tuple[int, ...] = ()

    def __str__(self) -> str:
        return f"{self.uid}:{','.join(map(str, self.gids))}" if self.gids else str(self.uid)


def claim(text: str) -> Claim | None:
    """`uid`, or `uid:gid,gid,…` with the primary group first; None where the text has not this form.

    Raises ValueError, in words for a person, for numbers that no client can claim.
    """
    if not re.fullmatch(r"\d+(:\d+(,\d+)*)?", text):
        return None
    uid, _, groups = text.partition(":")
    found = Claim(int(uid), tuple(int(gid) for gid in groups.split(",") if gid))
    if beyond := [number for number in (found.uid, *found.gids) if number > LARGEST_NUMBER]:
        raise ValueError(f"{beyond[0]} is not a number of a user or group; they go from 0 to {LARGEST_NUMBER}")
    if len(found.gids) > 1 + CLAIMED:
        raise ValueError(f"{len(found.gids)} groups; a client can claim a primary group and {CLAIMED} more")
    return found


def claimed(plan: Plan, made: Claim) -> tuple[Plan, str]:
    """A plan in which somebody has exactly the numbers claimed, and who: the user with this uid, or somebody new.

    Only this one is to be asked for in it, and with the storage of the plan as it is (`storage.storage_state` of the plan itself), since others
    lose their groups here.
    """
    user = next((one for one in plan.users.values() if one.uid == made.uid), None)
    if user is None:
        name = f"uid {made.uid}"
        user = User(id=name, name=name, uid=made.uid)
    mine = frozenset({user.id})
    groups = {
        group.id: replace(group, members=mine if group.gid in made.gids else frozenset())
        for group in plan.groups.values()
    }
    first = next((group.id for group in groups.values() if group.gid is not None and group.gid in made.gids[:1]), None)
    users = {**plan.users, user.id: replace(user, primary_group=first)}
    target = replace(plan.target, baseline=None)
    return replace(plan, users=users, groups=groups, target=target), user.id
