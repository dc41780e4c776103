"""Whom a share over SMB names: groups where these say it, and people where nothing else does.

Such a server asks a share's lists in this order (smb.conf(5)): who is refused (`invalid users`); who gets in at all (`valid users`; all who
sign in, where it names nobody); who of them writes (`write list`); who of them only reads (`read list`). All others do what is usual
there (`read only`). So a wider list beats a narrower one where reading is usual, and a narrower one a wider where writing is.

Groups that are granted something in the share's place are named for what somebody in them alone would get, so that whoever joins one
later gets that without a new rollout. People for whom all of these come to something else are named themselves; a group that makes
more such people than it saves is left out.
"""

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from yardgate.core.access.batch.resolve import Codes, Matrix
from yardgate.core.access.bitsets import unpack
from yardgate.core.access.paths import granted_at, is_by_share, is_on, kept_to, lets_in, members
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import EVERYONE, Plan
from yardgate.core.model.share import Over, Share

GROUP_MARK = "@"  # before the name of a group, here and in an ordered list
NA, RO, RW = (level.code for level in (Level.NA, Level.RO, Level.RW))
Who = NDArray[np.bool_]

ACCOUNT = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*\\)?[A-Za-z0-9._][A-Za-z0-9._-]*\$?")
"""A sign-in name, perhaps with the short name of its domain before it: nothing that a server's list would read otherwise."""
GROUP = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*\\)?\w([\w .&()-]*[\w.)-])?")
"""A group's name, which may have spaces where a domain has them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ShareLists:
    """usual: what whoever gets in may do, but for `writes` and `reads`, who get in, too. everybody: all who sign in get in. Names of groups are marked."""

    usual: Level = Level.RO
    everybody: bool = False
    enters: tuple[str, ...] = ()
    writes: tuple[str, ...] = ()
    reads: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()

    @property
    def named(self) -> frozenset[str]:
        return frozenset((*self.enters, *self.writes, *self.reads, *self.refused))

    @property
    def people(self) -> frozenset[str]:
        """Those who are named themselves."""
        return frozenset(name for name in self.named if not name.startswith(GROUP_MARK))

    def gives(self, names: Collection[str]) -> Level:
        """What the lists give somebody who goes by these names: their own, and their groups', marked."""

        def named(some: Iterable[str]) -> bool:
            return any(name in names for name in some)

        if named(self.refused) or not (self.everybody or named((*self.enters, *self.writes, *self.reads))):
            return Level.NA
        if named(self.writes):
            return Level.RW
        return Level.RO if named(self.reads) else self.usual


class _Group(NamedTuple):
    """name: marked. level: what somebody in it alone gets; no access: it is refused. who: bool (people,), who is in it."""

    name: str
    level: Level
    who: Who


class _ByGroups(NamedTuple):
    """Lists to be. comes: what they give each before people are named, `Level.code`; wrong: to whom something else than is wanted."""

    usual: Level
    everybody: bool
    groups: tuple[_Group, ...]
    comes: Codes
    wrong: Who
    stuck: int  # for how many of these it helps nothing to name them

    @property
    def cost(self) -> tuple[int, int]:
        return self.stuck, int(self.wrong.sum())


def share_lists(matrix: Matrix, share: Share, people: Mapping[str, str], groups: Mapping[str, str]) -> ShareLists:
    """Whom a share names so that everybody gets in as planned.

    people, groups: the users and groups of the plan that the server knows, by id, and what it calls them. Whoever cannot sign in
    (disabled, expired) is kept out by the account, and may count as in any list.
    """
    counting, number = matrix.counting, matrix.counting.number
    numbers = [number[who] for who in people]
    codes = lets_in(matrix, Over(share.id, "smb"))
    active, root = (unpack(bits, len(counting.subjects))[numbers] for bits in (counting.active, counting.root))
    grouped = active & ~root  # the server has root in no group of the plan
    wanted = np.where(active, codes[numbers], NA).astype(np.uint8)
    granted = granted_at(matrix.plan, matrix.storage, share) if is_by_share(matrix.storage, share) else None
    concerned = _concerned(matrix.plan, granted or {})
    named = [
        _Group(f"{GROUP_MARK}{groups[who]}", LEVELS[codes[number[who]]], members(matrix, who)[numbers] & grouped)
        for who in sorted(concerned.keys() & groups.keys())
        if GROUP.fullmatch(groups[who]) and (codes[number[who]] > NA or concerned[who] == Level.NA)
    ]
    everyone = _everyone(matrix.plan, share, granted)
    ways: list[tuple[Level, bool]] = [(everyone, True)] if everyone > Level.NA else []
    ways += [(Level.RO, False), (Level.RW, False)] if (wanted == RO).any() else [(Level.RW, False), (Level.RO, False)]
    drafts = [_leaner(wanted, active, _draft(wanted, active, *way, tuple(named))) for way in ways]
    best = min(drafts, key=lambda draft: draft.cost)
    if best.stuck:  # cannot be with nobody named but people, where those who read are named, and those who write
        best = _draft(wanted, active, Level.RO, False, ())
    return _lists(best, wanted, list(people.values()))


def _concerned(plan: Plan, granted: Mapping[str, Level]) -> Mapping[str, Level]:
    """The groups that have a say in who gets in, and what they are granted: by the share's grants, as administrators, or as those whom
    the service is for."""
    bosses = {plan.target.administrators: Level.RW} if plan.target.administrators is not None else {}
    return {**dict.fromkeys(kept_to(plan, "smb") or (), Level.RW), **granted, **bosses}


def _everyone(plan: Plan, share: Share, granted: Mapping[str, Level] | None) -> Level:
    """What the share lets somebody do who signs in, and is in no group and granted nothing. granted: there; None: it lets all through."""
    if not share.smb or not is_on(plan, "smb") or kept_to(plan, "smb") is not None:
        return Level.NA
    level = Level.RW if granted is None else granted.get(EVERYONE, Level.NA)
    return min(level, Level.RO) if share.read_only else level


def _draft(wanted: Codes, active: Who, usual: Level, everybody: bool, groups: tuple[_Group, ...]) -> _ByGroups:
    """What comes of lists with these groups: see `ShareLists.gives`."""

    def within(level: Level) -> Who:
        found = np.zeros_like(active)
        for group in groups:
            if group.level == level:
                found |= group.who
        return found

    writes, reads, refused = within(Level.RW), within(Level.RO), within(Level.NA)
    inside = (writes | reads) if not everybody else active
    comes = np.where(reads, RO, RW) if usual == Level.RW else np.where(writes, RW, RO)
    comes = np.where(inside & ~refused, comes, NA).astype(np.uint8)
    wrong = active & (comes != wanted)
    helpless = (refused & (wanted > NA)) | ((usual == Level.RO) & (comes == RW) & (wanted == RO))
    return _ByGroups(usual, everybody, groups, comes, wrong, int((wrong & helpless).sum()))


def _leaner(wanted: Codes, active: Who, draft: _ByGroups) -> _ByGroups:
    """Without the groups that make more people to be named than they save, one after the other, the best first."""
    while any(draft.cost):
        tries = (
            _draft(wanted, active, draft.usual, draft.everybody, (*draft.groups[:at], *draft.groups[at + 1 :]))
            for at in range(len(draft.groups))
        )
        best = min(tries, key=lambda one: one.cost, default=draft)
        if best.cost >= draft.cost:
            break
        draft = best
    return draft


def _lists(draft: _ByGroups, wanted: Codes, called: Sequence[str]) -> ShareLists:
    """A draft as lists, with the people in it for whom its groups come to something else."""
    said: dict[str, list[str]] = {"enters": [], "writes": [], "reads": [], "refused": []}

    def put(name: str, level: Level, beaten: bool = False) -> None:
        if level == Level.NA:
            said["refused"].append(name)
        elif level != draft.usual or beaten:
            said["writes" if level == Level.RW else "reads"].append(name)
        elif not draft.everybody:
            said["enters" if level == Level.RW else "reads"].append(name)

    for group in draft.groups:
        put(group.name, group.level)
    for at in np.flatnonzero(draft.wrong).tolist():
        put(called[at], LEVELS[int(wanted[at])], beaten=draft.comes[at] > NA)
    return ShareLists(
        usual=draft.usual, everybody=draft.everybody, **{part: tuple(sorted(names)) for part, names in said.items()}
    )
