"""What must hold in every plan, kind by kind. A trouble says which record and what is wrong, in words that name it."""

import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from ipaddress import ip_address

from yardgate.core.acl import Mode, Ordered, OwnList, Posix
from yardgate.core.acl.mode import MODE
from yardgate.core.acl.nfs4 import FLAGS, GROUP, OWNER
from yardgate.core.acl.rights import FULL, GRANTABLE, Level
from yardgate.core.model.agreements import Accepted, Promise
from yardgate.core.model.directory import Directory, dn_parts
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.needs import Need, need_id
from yardgate.core.model.plan import (
    BUILT_IN,
    EVERYONE,
    GUEST,
    LARGEST_NUMBER,
    LOCAL,
    ROOT,
    Grants,
    Group,
    Pattern,
    PersonalFolders,
    Place,
    Plan,
    Target,
    User,
)
from yardgate.core.model.share import Service, Share, hosts, share_name_trouble

LONGEST_LIST = 10_000
LARGEST_QUOTA = 2**63 - 1
MOST_ADDRESSES = 20  # of one server
MOST_SNAPSHOTS = 1000  # of a dataset; file systems get slow with more


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that no plan may have: which object (its id), and what is wrong, in words that name it."""

    object: str
    message: str


class PlanError(ValueError):
    """A plan or an edit that cannot stand. `troubles` is never empty."""

    def __init__(self, troubles: Iterable[Trouble]):
        self.troubles = tuple(troubles)
        super().__init__("; ".join(trouble.message for trouble in self.troubles[:5]))


def plan_troubles(plan: Plan) -> Iterator[Trouble]:
    if why := name_trouble(plan.name):
        yield Trouble("plan", f"the plan's name {why}")
    if plan.office and (why := name_trouble(plan.office)):
        yield Trouble("plan", f"the plan's office {why}")
    if why := _note_trouble(plan.purpose):
        yield Trouble("plan", f"what the plan says the appliance is for {why}")


def _note_trouble(text: str) -> str | None:
    if len(text) > 4000:
        return f"has {len(text)} characters; at most 4000 are possible"
    if any(unicodedata.category(c) in ("Cc", "Cs") and c not in "\n\t" for c in text):
        return "has a control character"
    return None


def _text_troubles(object_id: str, kind: str, name: str, texts: Mapping[str, str]) -> Iterator[Trouble]:
    if why := name_trouble(object_id):
        yield Trouble(object_id, f"the id of {kind} {show(name)} {why}")
    if why := name_trouble(name, separator="/" if kind in ("pool", "dataset", "folder") else ""):
        yield Trouble(object_id, f"the name of {kind} {show(name)} {why}")
    for what, text in texts.items():
        if what == "note":
            if why := _note_trouble(text):
                yield Trouble(object_id, f"the note of {kind} {show(name)} {why}")
        elif text and (why := name_trouble(text)):
            yield Trouble(object_id, f"the {what} of {kind} {show(name)} {why}")


def _taken_name(account: "User | Group", kind: str, number: int | None) -> Iterator[Trouble]:
    """Names that mean something already: everyone, and root where it is not the account with number 0."""
    if account.origin == LOCAL and fold(account.name) == EVERYONE:
        yield Trouble(
            account.id, f"a {kind} cannot be called {show(account.name)}: that name means all accounts, and guests"
        )
    if account.origin == LOCAL and fold(account.name) == ROOT and number != 0:
        yield Trouble(account.id, f"a {kind} cannot be called {show(account.name)}: every appliance has one of its own")


def user_troubles(plan: Plan, user: User) -> Iterator[Trouble]:
    yield from _text_troubles(
        user.id,
        user.kind,
        user.name,
        {
            "full name": user.full_name,
            "origin": user.origin,
            "key": user.key or "",
            "SID": user.sid or "",
            "note": user.note,
        },
    )
    for job in user.jobs:
        if why := name_trouble(job):
            yield Trouble(user.id, f"the job {show(job)} of {show(user.name)} {why}")
    for alias in user.aliases:
        if why := name_trouble(alias):
            yield Trouble(user.id, f"the sign-in name {show(alias)} of {show(user.name)} {why}")
    if user.id in plan.groups or user.id in BUILT_IN:
        yield Trouble(
            user.id, f"the id {show(user.id)} of user {show(user.name)} is taken by a group or a built-in who"
        )
    yield from _taken_name(user, user.kind, user.uid)
    if user.id == ROOT and user.uid != 0 and fold(user.name) != ROOT:
        yield Trouble(user.id, f"the id {show(ROOT)} of user {show(user.name)} belongs to the account with uid 0")
    if user.uid is not None and not 0 <= user.uid <= LARGEST_NUMBER:
        yield Trouble(user.id, f"the uid {user.uid} of {show(user.name)} is outside 0 to {LARGEST_NUMBER}")
    if user.primary_group is not None and user.primary_group not in plan.groups:
        yield Trouble(
            user.id, f"the primary group {show(user.primary_group)} of {show(user.name)} is not a group of this plan"
        )
    yield from _origin_troubles(plan, user, user.kind)


def group_troubles(plan: Plan, group: Group) -> Iterator[Trouble]:
    texts = {"origin": group.origin, "key": group.key or "", "SID": group.sid or "", "note": group.note}
    yield from _text_troubles(group.id, "group", group.name, texts)
    if group.id in BUILT_IN:
        yield Trouble(group.id, f"the id {show(group.id)} of group {show(group.name)} belongs to a built-in who")
    yield from _taken_name(group, "group", group.gid)
    if group.id == ROOT and group.gid != 0 and fold(group.name) != ROOT:
        yield Trouble(group.id, f"the id {show(ROOT)} of group {show(group.name)} belongs to the group with gid 0")
    if group.gid is not None and not 0 <= group.gid <= LARGEST_NUMBER:
        yield Trouble(group.id, f"the gid {group.gid} of {show(group.name)} is outside 0 to {LARGEST_NUMBER}")
    for member in sorted(group.members):
        if member not in plan.users and member not in plan.groups:
            yield Trouble(
                group.id,
                f"group {show(group.name)} has a member {show(member)} that is not a user or group of this plan",
            )
    yield from _origin_troubles(plan, group, "group")


def _origin_troubles(plan: Plan, account: User | Group, kind: str) -> Iterator[Trouble]:
    """An account is local, or its directory is one of the plan's and it is followed there by a key."""
    if account.origin == LOCAL:
        if account.key is not None or account.gone:
            yield Trouble(
                account.id, f"{kind} {show(account.name)} is local; only a directory's accounts have a key or are gone"
            )
    elif account.origin not in plan.directories:
        yield Trouble(
            account.id,
            f"{kind} {show(account.name)} comes from {show(account.origin)}, which is not a directory of this plan",
        )
    elif not account.key:
        yield Trouble(account.id, f"{kind} {show(account.name)} comes from a directory and has no key to follow it by")


def place_troubles(plan: Plan, place: Place) -> Iterator[Trouble]:
    yield from _text_troubles(place.id, place.kind, place.name, {"note": place.note})
    yield from list_troubles(plan, place)
    if place.folder_of is not None and place.folder_of not in plan.users:
        yield Trouble(
            place.id, f"{place.kind} {show(place.name)} is for {show(place.folder_of)}, who is not a user of this plan"
        )
    if place.personal_folders is not None:
        yield from _each_troubles(plan, place, place.personal_folders)
    yield from _quota_troubles(plan, place)
    yield from _dataset_troubles(place)
    if place.kind == "pool":
        if place.parent is not None:
            yield Trouble(place.id, f"pool {show(place.name)} cannot lie inside another place")
        return
    parent = plan.places.get(place.parent or "")
    if parent is None:
        where = show(place.parent) if place.parent else "nowhere"
        yield Trouble(place.id, f"{place.kind} {show(place.name)} lies in {where}, which is not a place of this plan")
    elif place.kind == "dataset" and parent.kind == "folder":
        yield Trouble(
            place.id,
            f"dataset {show(place.name)} cannot lie in folder {show(parent.name)}; only in a pool or a dataset",
        )
    elif (top := plan.path(place.id)[0]) in plan.places and plan.places[top].parent is not None:
        yield Trouble(place.id, f"{place.kind} {show(place.name)} lies inside itself")


def _each_troubles(plan: Plan, place: Place, each: PersonalFolders) -> Iterator[Trouble]:
    where = f"the personal folders in {place.kind} {show(place.name)}"
    if each.group is None and not each.users:
        yield Trouble(place.id, f"{where} are for nobody; name a group or people")
    if each.group is not None and each.group not in plan.groups:
        yield Trouble(place.id, f"{where} are for {show(each.group)}, which is not a group of this plan")
    for who in sorted(each.users - plan.users.keys()):
        yield Trouble(place.id, f"{where} are for {show(who)}, who is not a user of this plan")
    for who in sorted((each.managers | each.readers) - plan.users.keys() - plan.groups.keys()):
        yield Trouble(place.id, f"{where} are open to {show(who)}, who is not a user or group of this plan")


def _quota_troubles(plan: Plan, place: Place) -> Iterator[Trouble]:
    where = f"{place.kind} {show(place.name)}"
    if place.quota is not None and not 0 < place.quota <= LARGEST_QUOTA:
        yield Trouble(place.id, f"the quota of {where} is outside 1 to {LARGEST_QUOTA} bytes")
    seen: set[str] = set()
    for quota in place.group_quotas:
        if quota.group not in plan.groups:
            yield Trouble(place.id, f"a quota in {where} is for {show(quota.group)}, which is not a group of this plan")
        elif quota.group in seen:
            yield Trouble(place.id, f"{show(plan.groups[quota.group].name)} has two quotas in {where}; give it one")
        if not 0 < quota.bytes <= LARGEST_QUOTA:
            yield Trouble(place.id, f"a group's quota in {where} is outside 1 to {LARGEST_QUOTA} bytes")
        seen.add(quota.group)
    if place.group_quotas and place.kind == "folder":
        yield Trouble(place.id, f"{where} is a folder; quotas of groups hold for a pool or a dataset")


def _dataset_troubles(place: Place) -> Iterator[Trouble]:
    where = f"{place.kind} {show(place.name)}"
    if place.file_system != "folder" and place.kind != "pool":
        yield Trouble(place.id, f"{where} says its file system; that is the pool's to say")
    if (kept := place.snapshots) is not None:
        counts = (kept.hours, kept.days, kept.weeks, kept.months)
        if place.kind == "folder":
            yield Trouble(place.id, f"{where} is a folder; snapshots are made of a pool or a dataset")
        if min(counts) < 0 or not 0 < sum(counts) <= MOST_SNAPSHOTS:
            yield Trouble(place.id, f"{where} keeps {sum(counts)} snapshots; 1 to {MOST_SNAPSHOTS} can be kept")
    if place.options is not None and place.kind == "folder":
        yield Trouble(place.id, f"{where} is a folder; how files are kept is said of a pool or a dataset")
    if place.options is not None and (why := _note_trouble(place.options.asked_by)):
        yield Trouble(place.id, f"who asked for how {where} keeps files {why}")


def list_troubles(plan: Plan, place: Place) -> Iterator[Trouble]:
    where = f"{place.kind} {show(place.name)}"
    if place.owner is not None and place.owner != ROOT and place.owner not in plan.users:
        yield Trouble(place.id, f"the owner {show(place.owner)} of {where} is not a user of this plan")
    if place.group is not None and place.group != ROOT and place.group not in plan.groups:
        yield Trouble(place.id, f"the owning group {show(place.group)} of {where} is not a group of this plan")
    if place.acl is not None:
        for message in own_list_troubles(plan, place.acl):
            yield Trouble(place.id, f"the list of {where}: {message}")


def pattern_troubles(plan: Plan, pattern: Pattern) -> Iterator[Trouble]:
    yield from _text_troubles(pattern.id, "pattern", pattern.name, {"note": pattern.note})
    for message in own_list_troubles(plan, pattern.acl):
        yield Trouble(pattern.id, f"pattern {show(pattern.name)}: {message}")


def own_list_troubles(plan: Plan, own: OwnList) -> Iterator[str]:
    """What is wrong with a list of one's own: a place's, or a pattern's."""
    match own:
        case Ordered(entries):
            if len(entries) > LONGEST_LIST:
                yield f"it has {len(entries)} lines; at most {LONGEST_LIST} are possible"
                return
            for number, entry in enumerate(entries, 1):
                if entry.who not in (OWNER, GROUP) and not plan.knows(entry.who):
                    yield f"line {number} names {show(entry.who)}, who is not a user or group of this plan"
                if not 0 < entry.mask <= FULL or entry.mask & ~FULL:
                    yield f"line {number} has the rights 0x{entry.mask:x}; there are rights in 0x{FULL:x} only, and one at least is needed"
                if entry.flags & ~FLAGS or entry.flags < 0:
                    yield f"line {number} has the flags 0x{entry.flags:x}; only 0x{FLAGS:x} can be set in a plan"
        case Posix(access, default):
            for what, lines in (("", access), ("default ", default or ())):
                if len(lines) > LONGEST_LIST:
                    yield f"it has {len(lines)} {what}lines; at most {LONGEST_LIST} are possible"
                    return
                seen = set()
                for number, line in enumerate(lines, 1):
                    known = {"user": plan.users, "group": plan.groups}.get(line.tag, {})
                    if line.who and line.who not in known:
                        yield f"{what}line {number} names {show(line.who)}, which is not a {line.tag} of this plan"
                    if not 0 <= line.perms <= 7:
                        yield f"{what}line {number} has the permissions {line.perms}; they go from 0 to 7"
                    if (line.tag, line.who) in seen:
                        yield f"{what}line {number} says {line.tag}:{line.who} a second time"
                    seen.add((line.tag, line.who))
        case Mode(bits):
            if bits is not None and not 0 <= bits <= MODE:
                yield f"the mode {bits:o} is outside 0 to {MODE:o}"


def directory_troubles(_plan: Plan, directory: Directory) -> Iterator[Trouble]:
    names = {"domain": directory.domain, "controller": directory.controller or "", "reading account": directory.reader}
    yield from _text_troubles(directory.id, "directory", directory.name, names)
    what = f"directory {show(directory.name)}"
    if directory.id == LOCAL:
        yield Trouble(directory.id, f"the id {show(LOCAL)} stands for the appliance's own accounts")
    for dn in (directory.base, *directory.branches):
        try:
            dn_parts(dn)
        except ValueError as error:
            yield Trouble(directory.id, f"{what}: {error}")
    if directory.fingerprint is not None and not re.fullmatch("[0-9a-f]{64}", directory.fingerprint):
        yield Trouble(directory.id, f"{what}: the fingerprint must be SHA-256, 64 hexadecimal digits in lower case")
    if directory.security == "plain" and not directory.plain_agreed:
        yield Trouble(
            directory.id, f"{what}: without TLS the password is sent readable; say a second time that you want that"
        )
    if not 1 <= directory.low <= directory.high <= LARGEST_NUMBER:
        yield Trouble(
            directory.id, f"{what}: the range {directory.low} to {directory.high} does not lie in 1 to {LARGEST_NUMBER}"
        )


def share_troubles(plan: Plan, share: Share) -> Iterator[Trouble]:
    yield from _text_troubles(share.id, "share", share.name, {"note": share.note})
    what = f"share {show(share.name)}"
    if (why := share_name_trouble(share.name)) is not None:
        yield Trouble(share.id, f"the name of {what} {why}")
    if share.place not in plan.places:
        yield Trouble(share.id, f"{what} offers {show(share.place)}, which is not a place of this plan")
    if share.guests not in (Level.NA, Level.RO, Level.RW):
        yield Trouble(share.id, f"guests of {what}: only RW, RO and NA are possible")
    if share.administrator is not None and plan.account(share.administrator) is None:
        yield Trouble(
            share.id, f"{what} is run by {show(share.administrator)}, who is not a user or group of this plan"
        )
    for who, level in (share.grants or {}).items():
        if not plan.knows(who):
            yield Trouble(share.id, f"the list of {what} names {show(who)}, who is not a user or group of this plan")
        if level not in GRANTABLE:
            yield Trouble(share.id, f"the list of {what}: only RW, RO and NA can be given")
    if share.acts_as is not None and share.acts_as not in plan.users:
        yield Trouble(share.id, f"in {what} all act as {show(share.acts_as)}, who is not a user of this plan")
    if share.acts_as_group is not None and share.acts_as_group not in plan.groups:
        yield Trouble(share.id, f"in {what} all are in {show(share.acts_as_group)}, which is not a group of this plan")
    for number, rule in enumerate(share.hosts, 1):
        try:
            hosts(rule.hosts)
        except ValueError as error:
            yield Trouble(share.id, f"host rule {number} of {what}: {error}")
        if rule.level not in GRANTABLE:
            yield Trouble(share.id, f"host rule {number} of {what}: only RW, RO and NA can be given")


def service_troubles(plan: Plan, service: Service) -> Iterator[Trouble]:
    if service.id == "nfs" and service.allowed is not None:
        yield Trouble(
            "nfs",
            "NFS does not ask who somebody is, so it cannot be kept to some; say by host rules who may mount a share",
        )
    for who in sorted(service.allowed or ()):
        if plan.account(who) is None:
            yield Trouble(
                service.id, f"{show(who)}, who may use {service.id.upper()}, is not a user or group of this plan"
            )


def promise_troubles(plan: Plan, promise: Promise) -> Iterator[Trouble]:
    yield from _text_troubles(promise.id, "promise", promise.id, {"note": promise.note})
    if promise.place not in plan.places:
        yield Trouble(promise.id, f"a promise speaks of {show(promise.place)}, which is not a place of this plan")
    if not plan.knows(promise.who) and promise.who != GUEST:
        yield Trouble(promise.id, f"a promise speaks of {show(promise.who)}, who is not a user or group of this plan")
    for who in sorted(promise.except_for):
        if plan.account(who) is None:
            yield Trouble(promise.id, f"a promise leaves out {show(who)}, who is not a user or group of this plan")


def need_troubles(plan: Plan, need: Need) -> Iterator[Trouble]:
    yield from _text_troubles(need.id, "need", need.id, {"note": need.note, "asked by": need.asked_by})
    if need.id != need_id(need.who, need.place):
        yield Trouble(need.id, f"the need {show(need.id)} does not say by its id whose it is and where")
    if need.place not in plan.places:
        yield Trouble(need.id, f"a need speaks of {show(need.place)}, which is not a place of this plan")
    if plan.account(need.who) is None:
        yield Trouble(need.id, f"a need speaks of {show(need.who)}, who is not a user or group of this plan")


def accepted_troubles(_plan: Plan, accepted: Accepted) -> Iterator[Trouble]:
    if len(accepted.id) > 500 or any(not char.isprintable() for char in accepted.id) or not accepted.id:
        yield Trouble(accepted.id, f"{show(accepted.id)} names no finding")
    if not accepted.reason.strip():
        yield Trouble(accepted.id, "say why the finding is accepted, for whoever looks at it next")
    yield from _text_troubles(accepted.id, "acceptance", "of a finding", {"note": accepted.reason})


def grant_troubles(plan: Plan, place: str, grants: Grants) -> Iterator[Trouble]:
    where = show(plan.path_name(place)) if place in plan.places else show(place)
    if place not in plan.places:
        yield Trouble(place, f"there are grants on {where}, which is not a place of this plan")
    if not grants:
        yield Trouble(place, f"the list of grants on {where} is empty; leave it out")
    for who, level in grants.items():
        if not plan.knows(who):
            yield Trouble(place, f"a grant on {where} names {show(who)}, who is not a user or group of this plan")
        if level not in GRANTABLE:
            yield Trouble(
                place, f"{plan.named(who)} is granted {level.words} on {where}; only RW, RO and NA can be granted"
            )


def address_trouble(address: str) -> str | None:
    """Why clients cannot reach a server under a name (RFC 1123, section 2.1) or an address."""
    parts = address.split(".")
    if len(address) <= 253 and all(
        re.fullmatch(r"[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?", part) for part in parts
    ):
        return None if not parts[-1].isdigit() or is_address(address) else "is no address"
    return None if is_address(address) else "is no host name and no address"


def is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def target_troubles(plan: Plan, target: Target) -> Iterator[Trouble]:
    for number, address in enumerate(target.addresses):
        if (why := address_trouble(address)) is not None:
            yield Trouble("target", f"clients cannot reach the server as {show(address)}: it {why}")
        elif address.lower() in {other.lower() for other in target.addresses[:number]}:
            yield Trouble("target", f"clients reach the server as {show(address)} twice; once is enough")
    if len(target.addresses) > MOST_ADDRESSES:
        yield Trouble(
            "target", f"the server has {len(target.addresses)} names and addresses; {MOST_ADDRESSES} are the most"
        )
    if len(set(target.answered)) < len(target.answered):
        yield Trouble("target", "what is known of the appliance is said twice; once is enough")
    for what, group in (("baseline", target.baseline), ("administrators", target.administrators)):
        if group is not None and group not in plan.groups:
            yield Trouble("target", f"the {what} group {show(group)} is not a group of this plan")


def name_clashes(plan: Plan) -> Iterator[Trouble]:
    """Two users, groups or patterns, or two places in one folder, that go by the same name. Local and directory accounts may share one."""
    there = [user for user in plan.users.values() if not user.gone]
    yield from _twice(((user.origin, name), user.id) for user in there for name in (user.name, *user.aliases))
    yield from _twice(((group.origin, group.name), group.id) for group in plan.groups.values() if not group.gone)
    yield from _twice(((place.parent or "", place.name), place.id) for place in plan.places.values())
    yield from _twice((("", pattern.name), pattern.id) for pattern in plan.patterns.values())
    yield from _twice((("", directory.name), directory.id) for directory in plan.directories.values())


def _twice(named: Iterable[tuple[tuple[str, str], str]]) -> Iterator[Trouble]:
    seen: dict[tuple[str, str], str] = {}
    for (where, name), object_id in named:
        first = seen.setdefault((where, fold(name)), object_id)
        if first != object_id:
            yield Trouble(
                object_id,
                f"the name {show(name)} is used twice (ids {show(first)} and {show(object_id)}); names must differ, whatever their case",
            )
