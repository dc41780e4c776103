"""Whom places and lists name, and what they are without some."""

from collections.abc import Set
from dataclasses import replace

from yardgate.core.acl import Mode, Ordered, OwnList, Posix
from yardgate.core.model.plan import Place


def mentioned(place: Place) -> set[str]:
    """Ids that a place's owner, owning group, list and quotas name, and whom its folders or itself are for."""
    named = named_in(place.acl) if place.acl is not None else set()
    each = (
        {place.personal_folders.group, *place.personal_folders.managers}
        if place.personal_folders is not None
        else set()
    )
    each |= {quota.group for quota in place.group_quotas}
    return named | each | {who for who in (place.owner, place.group, place.folder_of) if who is not None}


def named_in(own: OwnList) -> set[str]:
    """Ids that a list names."""
    whos: set[str] = set()
    match own:
        case Ordered(entries):
            whos = {entry.who for entry in entries}
        case Posix(access, default):
            whos = {entry.who for entry in (*access, *(default or ()))}
        case Mode():
            pass
    return whos - {""}


def without(place: Place, gone: Set[str]) -> Place:
    """A place that does not name some accounts."""
    own = None if place.acl is None else list_without(place.acl, gone)
    owner, group, of = (None if named in gone else named for named in (place.owner, place.group, place.folder_of))
    each = place.personal_folders
    if each is not None:
        each = None if each.group in gone else replace(each, managers=each.managers - gone)
    quotas = tuple(quota for quota in place.group_quotas if quota.group not in gone)
    return replace(place, acl=own, owner=owner, group=group, personal_folders=each, folder_of=of, group_quotas=quotas)


def list_without(own: OwnList, gone: Set[str]) -> OwnList:
    match own:
        case Ordered(entries):
            return replace(own, entries=tuple(entry for entry in entries if entry.who not in gone))
        case Posix(access, default):
            kept = default and tuple(entry for entry in default if entry.who not in gone)
            return replace(own, access=tuple(entry for entry in access if entry.who not in gone), default=kept)
        case Mode():
            return own
