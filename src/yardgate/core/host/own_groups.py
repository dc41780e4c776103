"""Groups of a share's own: a share over SMB names these instead of people, who are put in them.

Each list of a share that names people gets one such group, called by the share's id, which stays where its name does not, and by what the list
says. Lists ask a server's question of a group as of each of its members (smb.conf(5)), so that everybody gets what they got before, and what
somebody is granted by name becomes a membership: the share's definition stays as it is.
"""

from collections.abc import Collection, Iterable
from dataclasses import replace
from typing import Any, NamedTuple

from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import HostGroup, Members, Offer
from yardgate.core.model.names import free_name, fresh_id

LISTS = {"enters": "in", "writes": "write", "reads": "read", "refused": "out", "roots": "admin"}
"""The lists of a share that name people, and how the group of each is called after the share."""
LONGEST = 28  # characters before a number that tells two apart; a host's group has 32 (useradd(8))


class OwnGroups(NamedTuple):
    """Shares that name no people in their lists, and the groups that they name instead, with who is in each."""

    offers: tuple[Offer, ...]
    groups: tuple[HostGroup, ...]
    members: tuple[Members, ...]


def own_groups(offers: Iterable[tuple[str, Offer]], taken: Collection[str], but: Collection[str] = ()) -> OwnGroups:
    """offers: each with the id of its share. taken: folded names of the host's accounts and groups that there are already. but: names of shares
    that go on naming people, as one that is somebody's own."""
    found: list[Offer] = []
    names, groups, members = set(taken), list[HostGroup](), list[Members]()
    for share, offer in offers:
        lists: dict[str, Any] = {}
        for part, word in LISTS.items() if offer.name not in but else ():
            named: tuple[str, ...] = getattr(offer, part)
            people = [name for name in named if not name.startswith(GROUP_MARK)]
            if people:
                plain = fresh_id(share, ())  # an id may have letters that a host's groups have not
                begins = plain if plain[0].isalpha() else f"share-{plain}"
                name = free_name(f"{begins[: LONGEST - len(word) - 1].rstrip('-')}-{word}", names)
                names.add(name)
                groups.append(HostGroup(name=name, share=offer.name))
                members.append(Members(name=name, users=frozenset(people)))
                lists[part] = (*(name for name in named if name.startswith(GROUP_MARK)), f"{GROUP_MARK}{name}")
        found.append(replace(offer, **lists))
    return OwnGroups(tuple(found), tuple(groups), tuple(members))
