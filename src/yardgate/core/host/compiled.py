"""What a plan comes to on an appliance: accounts, groups, folders, shares and exports by name; and what of it that cannot have."""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import fields, replace
from itertools import chain
from typing import Any, NamedTuple

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.access.membership import token
from yardgate.core.access.paths import inside, is_on, kept_to, offered
from yardgate.core.access.storage import Nfs4State, PlaceState
from yardgate.core.acl import Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.nfs4 import GROUP, OWNER, spelled
from yardgate.core.acl.rights import Level
from yardgate.core.host.own_groups import OwnGroups, own_groups
from yardgate.core.host.share_lists import GROUP_MARK, share_lists
from yardgate.core.host.state import (
    ADMIN,
    OF_THE_HOST,
    OPTIONS,
    Dataset,
    Export,
    Folder,
    HostAccount,
    HostGroup,
    HostQuota,
    HostService,
    Members,
    Offer,
    R,
    System,
)
from yardgate.core.model.checks import PlanError, Trouble
from yardgate.core.model.names import fresh_id, unix_trouble
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import EVERYONE, LOCAL, ROOT, DatasetOptions, FileSystem, Group, Place, Plan, User
from yardgate.core.model.share import Share, in_order


class Compiled(NamedTuple):
    """What a plan comes to on an appliance. left_out: what it will not have, or have otherwise, in words."""

    system: System
    left_out: tuple[str, ...]


def compiled(matrix: Matrix, top: str, joined: Collection[str] = ()) -> Compiled:
    """What a plan comes to. top: the folder in which the pools lie, or are mounted. joined: ids of the directories that the host is joined to.

    Whoever has no primary group gets one of their own, of the same name, since a host knows nobody without.
    Accounts of a directory are the directory's and never made here; where the host is joined to it, lists and shares name them, and
    they are in the host's own groups.
    Raises PlanError where a name cannot be carried by a Unix host.
    """
    plan = matrix.plan
    away = away_from(plan, joined)
    users = [user for user in plan.users.values() if _is_ours(user)]
    groups = [group for group in plan.groups.values() if _is_ours(group)]
    where, named = paths(plan, top), host_names(plan, away)
    if troubles := (*_troubles(plan, top), *_primary_troubles(plan, users, named)):
        raise PlanError(troubles)
    accounts = (
        HostAccount(
            name=user.name,
            uid=user.uid,
            full_name=user.full_name,
            primary=named[user.primary_group] if user.primary_group is not None else user.name,
            enabled=user.enabled and not user.gone,
            expires=user.expires if user.enabled else None,
            aliases=tuple(sorted(alias for alias in user.aliases if not ODD_ALIAS.search(alias))),
        )
        for user in users
    )
    the_hosts = [g for g in plan.groups.values() if g.of_host and g.gid != 0 and g.members]
    counting: dict[str, set[str]] = {group.id: set() for group in (*groups, *the_hosts)}
    for user in plan.users.values():
        if user.id in named and named[user.id] != ADMIN:
            for group in counting.keys() & token(plan, user.id).keys():
                is_own = group == user.primary_group and named[group] == named[user.id]
                told = not user.of_host and not plan.groups[group].of_host and not is_own
                if told or user.id in plan.groups[group].members:
                    counting[group].add(named[user.id])
    belongs = (Members(name=named[group], users=frozenset(found)) for group, found in counting.items())
    own = (HostGroup(name=user.name) for user in users if user.primary_group is None)
    listed = marked(plan, named)
    folders = (
        _folder(named, listed, place, where[place], matrix.storage[place])
        for place in plan.places
        if place in matrix.storage
    )
    over_smb = tuple(offers(matrix, where.__getitem__, named, of_host=False))
    beside = OwnGroups(over_smb, (), ())
    if plan.target.share_groups:
        by_name = {share.name: share.id for share in plan.shares.values()}
        taken = {fold(name) for name in (*named.values(), *(user.name for user in users), *OF_THE_HOST)}
        theirs = {share.name for share in plan.shares.values() if plan.places[share.place].folder_of is not None}
        beside = own_groups(((by_name[offer.name], offer) for offer in over_smb), taken, theirs)
    shares = sorted((share for share in plan.shares.values() if not share.of_host), key=lambda share: share.name)
    return Compiled(
        System(
            groups=_by_name(
                chain((HostGroup(name=named[group.id], gid=group.gid) for group in groups), own, beside.groups)
            ),
            accounts=_by_name(accounts),
            members=_by_name(chain(belongs, beside.members)),
            datasets=_by_name(_datasets(plan, where, named)),
            folders=_by_name(folder for folder in folders if folder is not None),
            offers=_by_name(beside.offers),
            exports=_by_name(export(plan, share, where[share.place]) for share in shares if is_exported(plan, share)),
            services=_by_name(
                HostService(name=protocol) for protocol in dict.fromkeys(o.protocol for o in offered(plan))
            ),
        ),
        tuple(_left_out(matrix, away)),
    )


ODD_ALIAS = re.compile(r'^[@&+%!*]|["*\r\n]')
"""Other names that a username map (smb.conf(5)) cannot hold: it would take them for a group or everybody, or they end the quotes around them."""


def paths(plan: Plan, top: str) -> Mapping[str, str]:
    """Place id -> the path of its folder."""
    return {place: f"{top.rstrip('/')}/{plan.path_name(place)}" for place in plan.places}


def _by_name(records: Iterable[R]) -> dict[str, R]:
    return {record.name: record for record in records}


def away_from(plan: Plan, joined: Collection[str]) -> frozenset[str]:
    """The directories that a host does not know: all but those it is joined to."""
    return frozenset(plan.directories) - frozenset(joined)


def host_names(plan: Plan, away: Collection[str] = ()) -> Mapping[str, str]:
    """Account id -> how the host calls it; root as root, and nothing for those of a directory that is away, or that it cannot know.

    A group whose name it cannot have gets one made of that name. Those of a directory it calls by the directory's short name and their
    own in small letters, as winbindd(8) does.
    """
    found = {ROOT: ADMIN}
    here = [user for user in plan.users.values() if _is_known(plan, user, away)]
    found |= {user.id: ADMIN if user.uid == 0 else _called(plan, user) for user in here}
    taken = {fold(name) for name in found.values()}
    local = [group for group in plan.groups.values() if group.origin == LOCAL]
    taken |= {fold(group.name) for group in local if unix_trouble(group.name) is None}
    for group in sorted((g for g in plan.groups.values() if _is_known(plan, g, away)), key=lambda group: group.id):
        name = ADMIN if group.gid == 0 else _called(plan, group)
        its_own = fold(name) in OF_THE_HOST
        if _is_ours(group) and (unix_trouble(name) is not None or its_own):
            spoken = fresh_id(name, ()).strip("0123456789") and not its_own
            name = fresh_id(name if spoken else f"group {name}", taken)[:32]
            taken.add(name)
        found[group.id] = name
    return found


def _is_ours(account: User | Group) -> bool:
    """Whether a rollout makes and changes an account: neither a directory's, nor what the host has for itself."""
    number = account.uid if isinstance(account, User) else account.gid
    return account.origin == LOCAL and not account.of_host and number != 0


def _called(plan: Plan, account: User | Group) -> str:
    if account.origin == LOCAL:
        return account.name
    return f"{plan.source(account.origin)}\\{account.name.lower()}"


def _is_known(plan: Plan, account: User | Group, away: Collection[str]) -> bool:
    """Whether a host knows an account: all of its own; of a directory that is not away those that have a number and a name for a list."""
    if account.origin == LOCAL:
        return True
    if account.origin in away or account.gone or unix_trouble(plan.source(account.origin)) is not None:
        return False
    if isinstance(account, User):
        return account.uid is not None and unix_trouble(account.name) is None
    name = account.name
    return account.gid is not None and name.isprintable() and name == name.strip() and not set(name) & set(':,"\\')


ZFS_SNAPSHOTS = ".zfs/snapshot"  # where each dataset of ZFS shows its snapshots (zfsprops(7), snapdir)


def file_system(plan: Plan, place: str) -> FileSystem:
    """What the pool in which a place lies is on the host."""
    return plan.places[plan.path(place)[0]].file_system


def _datasets(plan: Plan, where: Mapping[str, str], named: Mapping[str, str]) -> Iterator[Dataset]:
    """The pools and datasets that are file systems of their own on the host. A pool's quota is what it has, and needs nothing done."""
    for place in plan.places.values():
        kind = file_system(plan, place.id)
        if kind == "folder" or place.kind == "folder":
            continue
        quotas = (HostQuota(group=named[q.group], bytes=q.bytes) for q in place.group_quotas if q.group in named)
        yield Dataset(
            name=where[place.id],
            file_system=kind,
            place=place.id,
            quota=place.quota if place.kind == "dataset" else None,
            group_quotas=tuple(sorted(quotas, key=lambda quota: quota.group)) if kind == "zfs" else (),
            case_sensitive=place.case_sensitive or kind != "zfs",
            snapshots=place.snapshots,
            **_options(kind, place.options),
        )


def _options(kind: FileSystem, options: DatasetOptions | None) -> dict[str, Any]:
    """What a file system can do of what is wanted."""
    if options is None:
        return {}
    if kind == "zfs":
        return {name: getattr(options, name) for name in OPTIONS}
    return {"compression": None if options.compression == "lz4" else options.compression}


def marked(plan: Plan, named: Mapping[str, str]) -> Mapping[str, str]:
    """Account id -> how an ordered list calls whom the host calls `named`."""
    return {who: f"{GROUP_MARK}{name}" if who in plan.groups else name for who, name in named.items()}


def _folder(
    named: Mapping[str, str], called: Mapping[str, str], place: str, path: str, stored: PlaceState
) -> Folder | None:
    """called: how an ordered list calls whom the host calls `named`."""
    owner, group = named.get(stored.owner, ADMIN), named.get(stored.group, ADMIN)
    match stored.list:
        case None:
            return None
        case Nfs4State() as listed:
            kept = (e for e in listed.entries if e.who in named or e.who in (OWNER, GROUP, EVERYONE))
            said = tuple(replace(e, who=called.get(e.who, e.who)) for e in kept)
            ordered = Ordered(spelled(said, owner, f"{GROUP_MARK}{group}"))
            return Folder(name=path, owner=owner, group=group, listed=ordered, place=place)
        case listed:
            own = Posix(_entries(named, listed.access), None, listed.setgid, listed.sticky)
            if listed.style == "posix" and listed.default is not None:
                own = replace(own, default=_entries(named, listed.default))
            return Folder(name=path, owner=owner, group=group, listed=own, place=place)


def _entries(named: Mapping[str, str], entries: tuple[PosixEntry, ...]) -> tuple[PosixEntry, ...]:
    return posix.in_order(replace(e, who=named[e.who] if e.who else "") for e in entries if not e.who or e.who in named)


def offers(
    matrix: Matrix, where: Callable[[str], str], named: Mapping[str, str], *, of_host: bool = True
) -> Iterator[Offer]:
    """All shares over SMB as such a server is told of them, by name; those that its own configuration offers only with `of_host`.
    where: place id -> folder there. named: how the host calls whom it knows."""
    plan = matrix.plan
    people = {who: name for who, name in named.items() if who in plan.users}
    groups = {who: name for who, name in named.items() if who in plan.groups and name != ADMIN}
    for share in sorted(plan.shares.values(), key=lambda share: share.name):
        if share.smb and (of_host or not share.of_host):
            yield _offer(matrix, share, where(share.place), people, groups)


def _offer(matrix: Matrix, share: Share, path: str, people: Mapping[str, str], groups: Mapping[str, str]) -> Offer:
    plan, lists = matrix.plan, share_lists(matrix, share, people, groups)
    guests = share.guests if is_on(plan, "smb") and kept_to(plan, "smb") is None else Level.NA
    roots = []
    if (admin := share.administrator) is not None:
        roots = [f"{GROUP_MARK}{groups[admin]}"] if admin in groups else [people[admin]] if admin in people else []
    return Offer(
        name=share.name,
        path=path,
        roots=tuple(roots),
        acts_as=people.get(share.acts_as or "", ""),
        acts_as_group=groups.get(share.acts_as_group or "", ""),
        guests=min(guests, Level.RO) if share.read_only else guests,
        hidden=share.hidden,
        hide_unreadable=share.hide_unreadable,
        versions=share.versions,
        snapdir=ZFS_SNAPSHOTS if share.versions and file_system(plan, share.place) == "zfs" else "",
        recycle=share.recycle,
        note=share.note,
        ordered=any(kept_in_order(matrix, p) for p in inside(plan, share)),
        **{part.name: getattr(lists, part.name) for part in fields(lists)},
    )


def kept_in_order(matrix: Matrix, place: str) -> bool:
    """Whether a place has an ordered list, which a Linux host's SMB server keeps beside the folder."""
    return place in matrix.storage and isinstance(matrix.storage[place].list, Nfs4State)


def is_exported(plan: Plan, share: Share) -> bool:
    """Whether any host may mount a share over NFS."""
    return share.nfs and bool(share.hosts) and is_on(plan, "nfs")


def export(plan: Plan, share: Share, path: str) -> Export:
    """A share as an NFS server is told of it."""
    most = Level.RO if share.read_only else Level.RW
    rules = (replace(rule, level=min(rule.level, most)) for rule in in_order(share.hosts, plan.target.host_rules))
    return Export(name=share.name, path=path, rules=tuple(rules), squash=share.squash)


# --- what cannot be carried -------------------------------------------------------------------------------------------


def _primary_troubles(plan: Plan, users: Iterable[User], named: Mapping[str, str]) -> Iterator[Trouble]:
    """Those whose primary group the host does not know: one of a directory that it is not joined to, or that has no number there."""
    for user in users:
        if user.primary_group is not None and user.primary_group not in named:
            group = show(plan.named(user.primary_group))
            yield Trouble(
                user.id,
                f"{show(user.name)} has {group} as primary group, which the host does not know; choose one of the host's",
            )


def _troubles(plan: Plan, top: str) -> Iterator[Trouble]:
    """Names that a Unix host cannot have, or that would be taken for another."""
    if not top.startswith("/") or not _plain_path(top):
        yield Trouble("top", f"{show(top)} is not a plain path from the root, as /srv")
    for user in plan.users.values():
        if not _is_ours(user) or user.gone:
            continue
        if (why := unix_trouble(user.name)) is not None:
            yield Trouble(user.id, f"{show(user.name)} cannot be an account of the host: it {why}")
        elif fold(user.name) in OF_THE_HOST:
            yield Trouble(
                user.id, f"{show(user.name)} is an account that hosts have for themselves; give it another sign-in name"
            )
    named = host_names(plan, plan.directories)
    groups = {named[group.id] for group in plan.groups.values() if group.origin == LOCAL}
    for user in plan.users.values():
        if _is_ours(user) and user.primary_group is None and user.name in groups:
            yield Trouble(
                user.id,
                f"{show(user.name)} has no primary group, and the group of its own that the host would make has the name of a group of the plan; give it a primary group",
            )
        if _is_ours(user) and set(user.full_name) & set(":,\n"):
            yield Trouble(
                user.id, f"the full name {show(user.full_name)} has a colon or comma, which passwd(5) cannot hold"
            )
    if plan.target.host_rules == "first":
        for share in plan.shares.values():
            if share.nfs and tuple(in_order(share.hosts, "narrowest")) != share.hosts:
                yield Trouble(
                    share.id,
                    f"{show(share.name)} has a wider host rule before a narrower one, and the kernel's NFS server takes the narrower; put it first",
                )
    for share in plan.shares.values():
        if share.of_host:
            continue
        published = share.smb or is_exported(plan, share)
        if published and all(plan.places[step].acl is None for step in plan.path(share.place)):
            yield Trouble(
                share.id,
                f"{show(share.name)} offers {plan.path_name(share.place)}, for which no list is planned, so that its folder would not be made; plan its list",
            )
    exported: dict[tuple[str, str], Share] = {}
    for share in plan.shares.values() if is_on(plan, "nfs") else ():
        for rule in share.hosts if share.nfs else ():
            first = exported.setdefault((share.place, rule.hosts), share)
            if first is not share:
                yield Trouble(
                    share.id,
                    f"{show(share.name)} and {show(first.name)} offer the same folder over NFS to {rule.hosts}, and such a server knows folders, not names; leave one of them",
                )
    for place in plan.places.values():
        if not _plain_path(place.name):
            yield Trouble(
                place.id,
                f"the folder {show(place.name)} has a character that configurations of servers cannot carry in a path",
            )


def _plain_path(name: str) -> bool:
    return name.isprintable() and not set(name) & set('%"\\$`') and not name.startswith("-")


def _left_out(matrix: Matrix, away: Collection[str]) -> Iterator[str]:
    plan = matrix.plan
    for origin in sorted(away):
        number = sum(user.origin == origin and not user.gone for user in plan.users.values())
        yield f"{number} accounts of {plan.source(origin)}: the host is not joined to it, and knows none of them; if it is, say so where the plan goes"
    named = host_names(plan, away)
    kinds: tuple[tuple[str, Iterable[User | Group]], ...] = (
        ("accounts", plan.users.values()),
        ("groups", plan.groups.values()),
    )
    for what, all_of in kinds:
        odd = [a.name for a in all_of if a.origin not in {LOCAL, *away} and a.id not in named and not a.gone]
        if odd:
            yield f"{what} of a directory that have no number, or a name that a host's lists cannot hold: {', '.join(map(show, sorted(odd)))}"
    other = [f"{g.name} ({named[g.id]})" for g in plan.groups.values() if g.origin == LOCAL and named[g.id] != g.name]
    if other:
        yield f"groups get other names there, since the host cannot have theirs: {', '.join(sorted(other))}"
    for group in plan.groups.values():
        if group.origin == LOCAL and any(member in plan.users and member not in named for member in group.members):
            yield f"members of {group.name} that come from a directory: the host does not know them"
    for place in plan.places.values():
        if place.id not in matrix.storage or matrix.storage[place.id].list is None:
            yield f"the list of {plan.path_name(place.id)}, which is not planned"
    for share in plan.shares.values():
        if share.nfs and not share.hosts and is_on(plan, "nfs"):
            yield f"the share {share.name} over NFS: no host may mount it"
    for service in plan.services.values():
        if service.id == "pages" and (service.allowed is not None or not service.on):
            yield "the appliance's administration pages: a plain host has none"
    if own := sorted(share.name for share in plan.shares.values() if share.of_host):
        yield f"shares that the server's own configuration offers, and that no rollout writes: {', '.join(own)}; what changes there is done by hand, or say under Shares that rollouts write them"
    yield from _not_made(plan)


def _not_made(plan: Plan) -> Iterator[str]:
    """What a plan says and no step makes on a host of folders, with what to do by hand."""

    def of(which: Callable[[Place], bool]) -> str:
        return ", ".join(sorted(plan.path_name(place.id) for place in plan.places.values() if which(place)))

    kinds = {place: file_system(plan, place) for place in plan.places}
    is_own = {place.id for place in plan.places.values() if place.kind != "folder" and kinds[place.id] != "folder"}
    if quotas := of(lambda place: place.quota is not None and place.id not in is_own):
        yield f"quotas of {quotas}: folders have none; make each a dataset of a pool on btrfs or ZFS, or set a project quota on the host"
    if of_groups := of(lambda place: bool(place.group_quotas) and kinds[place.id] != "zfs"):
        yield f"quotas of groups in {of_groups}: only ZFS has them here; set them on the host, with setquota(8) where its file system keeps them"
    if by_case := of(lambda place: place.case_sensitive):
        yield f"case-sensitive names in {by_case}: over SMB the server there takes names that differ only in case for one"
    if none := of(lambda place: place.snapshots is not None and place.id not in is_own):
        yield f"snapshots of {none}: plain folders have none; say that the pool is on btrfs or ZFS"
    wanted = {place.id: place.options or DatasetOptions() for place in plan.places.values()}
    elsewhere = "only ZFS has that of a dataset"
    if timed := of(lambda place: wanted[place.id].access_times is not None and kinds[place.id] != "zfs"):
        yield f"access times of {timed}: {elsewhere}; mount its file system with noatime or strictatime (mount(8))"
    if synced := of(lambda place: wanted[place.id].sync is not None and kinds[place.id] != "zfs"):
        yield f"sync of {synced}: {elsewhere}; say sync or async in exports(5), strict sync in smb.conf(5)"
    if plain := of(lambda place: wanted[place.id].compression not in (None, "off") and kinds[place.id] == "folder"):
        yield f"compression of {plain}: plain folders have none; say that the pool is on btrfs or ZFS"
    if lz4 := of(lambda place: wanted[place.id].compression == "lz4" and kinds[place.id] == "btrfs"):
        yield f"compression of {lz4} by lz4: btrfs has zstd, which is nearly as fast, and gzip"
    local = [user for user in plan.users.values() if user.origin == LOCAL]
    if odd := sorted(f"{alias} for {u.name}" for u in local for alias in u.aliases if ODD_ALIAS.search(alias)):
        yield f"other sign-in names that a username map cannot hold: {', '.join(odd)}"
    shares = sorted(plan.shares.values(), key=lambda share: share.name)
    kept = {place.id for place in plan.places.values() if place.snapshots is not None and place.id in is_own}
    if versions := [s.name for s in shares if s.smb and s.versions and _own_file_system(plan, s.place) not in kept]:
        yield f"earlier versions in {', '.join(versions)}: no snapshots are planned there; the SMB server shows those that the host's file system keeps"
    stars = sorted(
        {rule.hosts for share in shares if share.nfs for rule in share.hosts if _is_starred_address(rule.hosts)}
    )
    if stars and plan.target.wildcards == "both":
        yield f"host rules for {', '.join(stars)}: the kernel's NFS server compares * and ? with host names, never with addresses; write networks"


def _own_file_system(plan: Plan, place: str) -> str:
    """The pool or dataset that a place is, or in which it lies: a share shows the earlier versions of that alone."""
    return next(step for step in reversed(plan.path(place)) if plan.places[step].kind != "folder")


def _is_starred_address(hosts: str) -> bool:
    return bool(set(hosts) & set("*?")) and hosts != "*" and set(hosts) <= set("0123456789.*?:")
