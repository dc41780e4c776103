"""Whom places and lists name, and what they are without some."""

from collections.abc import Set
from dataclasses import replace

from yardgate.core.model.plan import Place


def mentioned(place: Place) -> set[str]:
    """Ids that a place's owner, owning group, list and quotas name, and whom its folders or itself are for."""
    named = set(place.acl.whos) if place.acl is not None else set()
    each = set(place.personal_folders.named) if place.personal_folders is not None else set()
    each |= {quota.group for quota in place.group_quotas}
    return named | each | {who for who in (place.owner, place.group, place.folder_of) if who is not None}


def without(place: Place, gone: Set[str]) -> Place:
    """A place that does not name some accounts."""
    own = None if place.acl is None else place.acl.without(gone)
    owner, group, of = (None if named in gone else named for named in (place.owner, place.group, place.folder_of))
    each = place.personal_folders.without(gone) if place.personal_folders is not None else None
    quotas = tuple(quota for quota in place.group_quotas if quota.group not in gone)
    return replace(place, acl=own, owner=owner, group=group, personal_folders=each, folder_of=of, group_quotas=quotas)
