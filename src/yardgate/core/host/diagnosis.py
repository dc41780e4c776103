"""Why somebody does not get in, or does: what an appliance says of one account and one thing in a share, in the order in which it fails.

The first check that is amiss is the cause; what comes after it may be amiss because of it. Each is told beside what the plan comes to there.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from ipaddress import ip_address
from typing import Literal, NamedTuple

from yardgate.core.acl import Posix, posix
from yardgate.core.acl.rights import (
    ADD_FILE,
    EVERYTHING,
    EXECUTE,
    LIST_DIRECTORY,
    READ_DATA,
    STRICT,
    WRITE_DATA,
    Level,
    Rights,
)
from yardgate.core.host.evaluate import groups_of, let_in, rights_in
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import Export, Folder, HostAccount, HostService, Offer, System
from yardgate.core.host.step_words import SERVERS, words
from yardgate.core.host.steps import Step
from yardgate.core.model.share import Protocol, host_rule

PasswordKnown = Literal["known", "not given", "to be changed", "unknown"]
About = Literal[
    "plan",
    "server",
    "account",
    "password",
    "groups",
    "session",
    "share",
    "host",
    "folder",
    "thing",
    "file system",
    "client",
]
LOOPBACK = ("127.", "[::1]", "::1")


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """account: as the host calls them. share: its name; path: below its top, a folder's or a file's, none for the top itself. machine: the address that
    a client comes from; none: not asked about. password: what they type, to try it; none: not tried."""

    __pydantic_config__ = STRICT
    account: str
    share: str
    protocol: Protocol = "smb"
    path: str = ""
    machine: str = ""
    password: str = field(default="", repr=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What an appliance says now. service None, listens none: nothing can be said of that. listens: the addresses at which the server takes
    connections. shut: what keeps this client from it before that, in words. account None: there is none. groups: as the host counts them. regrouped: when its groups were changed last, in ISO 8601.
    offer, export: the share as the server's configuration has it. folders: from the top of the file system down to the thing, as far as
    they are there; missing, link: the first path on the way that is not there, or leads out of the share. is_file: the thing is one. tried: what the server said to the password, `in` where it let them in."""

    service: HostService | None = None
    listens: tuple[str, ...] | None = None
    shut: str = ""
    account: HostAccount | None = None
    locked: bool = False
    password: PasswordKnown = "unknown"
    groups: frozenset[str] = frozenset()
    regrouped: str = ""
    sessions: tuple[OpenSession, ...] = ()
    offer: Offer | None = None
    export: Export | None = None
    folders: tuple[Folder, ...] = ()
    missing: str = ""
    link: str = ""
    is_file: bool = False
    read_only: bool = False
    full: str = ""
    tried: str = ""


class Planned(NamedTuple):
    """What a plan comes to there. level, why: what it gives, and the sentence that says why. system: what the appliance shall have."""

    level: Level
    why: str
    system: System


class HostCheck(NamedTuple):
    """state: well, amiss, or not known. act: what mends it, in words; nothing where nothing is to be done."""

    about: About
    state: Literal["well", "amiss", "unknown"]
    words: str
    act: str = ""


def _well(about: About, words: str) -> HostCheck:
    return HostCheck(about, "well", words)


def _amiss(about: About, words: str, act: str = "") -> HostCheck:
    return HostCheck(about, "amiss", words, act)


def _unknown(about: About, words: str, act: str = "") -> HostCheck:
    return HostCheck(about, "unknown", words, act)


CLIENT: dict[Protocol, str] = {
    "smb": "it is signed in to this server as somebody else already (Windows keeps one at a time), it sends an old password that it has kept",
    "nfs": "it gives them another number than the appliance does",
}
AGAIN = "Read what the appliance has, and roll out: the steps put it right."


def diagnose(asked: Asked, planned: Planned, facts: Facts, on: date) -> tuple[HostCheck, ...]:
    """All checks, in the order in which things fail."""
    over_nfs = asked.protocol == "nfs"
    return (
        *_plan(planned),
        *_server(asked, facts),
        *_account(asked, planned, facts, on),
        *(() if over_nfs else _password(asked, facts)),
        *_groups(asked, planned, facts),
        *(() if over_nfs else _sessions(facts)),
        *(_export(asked, planned, facts) if over_nfs else _share(asked, planned, facts, on)),
        *_folders(asked, planned, facts),
        *_file_system(planned, facts),
        *_tried(asked, facts),
    )


def cause(checks: Sequence[HostCheck]) -> HostCheck | None:
    """The first that is amiss."""
    return next((check for check in checks if check.state == "amiss"), None)


def _plan(planned: Planned) -> Iterator[HostCheck]:
    said = f"The plan says {planned.level.words}. {planned.why}"
    is_given = planned.level >= Level.RO
    yield _well("plan", said) if is_given else _amiss("plan", said, "Change it on the board, or by What would it take.")


def _server(asked: Asked, facts: Facts) -> Iterator[HostCheck]:
    name = SERVERS[asked.protocol]
    if facts.service is None:
        return
    if not facts.service.running:
        yield _amiss("server", f"{name[0].upper()}{name[1:]} does not run.", AGAIN)
        return
    if facts.listens is not None and all(one.startswith(LOOPBACK) for one in facts.listens):
        where = f"takes connections only from the appliance itself ({', '.join(facts.listens) or 'nowhere'})"
        yield _amiss(
            "server",
            f"{name[0].upper()}{name[1:]} {where}.",
            "In its configuration: interfaces, and bind interfaces only.",
        )
        return
    if facts.shut:
        yield _amiss("server", f"{facts.shut[0].upper()}{facts.shut[1:]}.", "Open the port in the host's firewall.")
        return
    later = "" if facts.service.enabled else " It does not start with the host."
    yield _well("server", f"{name[0].upper()}{name[1:]} runs and takes connections.{later}")


def _account(asked: Asked, planned: Planned, facts: Facts, on: date) -> Iterator[HostCheck]:
    there, wanted = facts.account, planned.system.accounts.get(asked.account)
    if there is None:
        yield _amiss("account", f"The appliance has no account {asked.account}.", AGAIN)
        return
    if wanted is not None and wanted.uid is not None and there.uid != wanted.uid:
        yield _amiss(
            "account",
            f"{asked.account} has the number {there.uid} there, {wanted.uid} in the plan: lists go by it.",
            AGAIN,
        )
        return
    if asked.protocol == "nfs":
        yield _well(
            "account",
            f"{asked.account} has the number {there.uid}; over NFS nothing else of the account counts.",
        )
        return
    if not there.enabled:
        meant = wanted is not None and not wanted.enabled
        said = "as the plan says" if meant else "the plan has it enabled"
        yield _amiss(
            "account",
            f"The account {asked.account} is disabled there; {said}.",
            "Enable it in People." if meant else AGAIN,
        )
    elif there.expires is not None and there.expires <= on:
        yield _amiss(
            "account",
            f"The account {asked.account} expired on {there.expires}.",
            "Give it another day in People.",
        )
    elif not there.smb:
        yield _amiss("account", f"The SMB server has no account {asked.account}; the host has.", AGAIN)
    elif facts.locked:
        yield _amiss(
            "account",
            f"The SMB server has locked {asked.account} after too many wrong passwords.",
            f"On the host: pdbedit -r -u {asked.account} -z -c '[ ]'",
        )
    else:
        yield _well("account", f"The account {asked.account} is there and enabled.")


def _password(asked: Asked, facts: Facts) -> Iterator[HostCheck]:
    match facts.password:
        case "not given":
            yield _amiss(
                "password",
                f"Nobody was given a password for {asked.account} yet.",
                "Make one under Signing in.",
            )
        case "to be changed":
            yield _amiss(
                "password",
                f"{asked.account} has to choose another password before anything else.",
                f"On their computer; on Linux: smbpasswd -r SERVER -U {asked.account}",
            )
        case "known":
            yield _well("password", f"{asked.account} has a password.")
        case _:
            pass
    if facts.tried == "in":
        yield _well("password", "The server takes the password that was typed here.")
    elif "LOGON_FAILURE" in facts.tried or "WRONG_PASSWORD" in facts.tried:
        yield _amiss(
            "password",
            "The server does not take the password that was typed here.",
            "Make another under Signing in.",
        )


def _groups(asked: Asked, planned: Planned, facts: Facts) -> Iterator[HostCheck]:
    if facts.account is None:
        return
    wanted = groups_of(planned.system, asked.account)
    known = planned.system.groups.keys() | planned.system.members.keys()
    missing, more = sorted(wanted - facts.groups), sorted((facts.groups & known) - wanted)
    if missing or more:
        said = [f"not in {', '.join(missing)}"] if missing else []
        said += [f"also in {', '.join(more)}"] if more else []
        yield _amiss(
            "groups",
            f"On the appliance {asked.account} is {' and '.join(said)}; the plan says otherwise.",
            AGAIN,
        )
    else:
        yield _well(
            "groups",
            f"The appliance counts {asked.account} in {', '.join(sorted(facts.groups)) or 'no group'}, as planned.",
        )


def _sessions(facts: Facts) -> Iterator[HostCheck]:
    for one in facts.sessions:
        if one.since and facts.regrouped and one.since < facts.regrouped:
            yield _amiss(
                "session",
                f"A session is open from {one.machine}, begun before the appliance’s groups last changed: it keeps what it began with.",
                "End it under Signing in, or sign out and in again on that computer.",
            )
        else:
            yield _well("session", f"A session is open from {one.machine}; it has today’s groups.")


def _share(asked: Asked, planned: Planned, facts: Facts, on: date) -> Iterator[HostCheck]:
    offer, wanted = facts.offer, planned.system.offers.get(asked.share)
    if offer is None:
        why = "" if wanted is not None else " Nor does the plan offer it over SMB."
        yield _amiss(
            "share",
            f"The SMB server’s configuration in effect has no share {asked.share}.{why}",
            AGAIN if wanted is not None else "Offer it under Shares.",
        )
        return
    hosts = [line for line in offer.foreign if line.startswith("hosts ")]
    if hosts:
        yield _amiss(
            "host",
            f"The share keeps computers out by a line that no rollout wrote: {'; '.join(hosts)}.",
            "Take it out of the server’s configuration.",
        )
    if other := [line for line in offer.foreign if line not in hosts]:
        yield _amiss(
            "share",
            f"Something besides rollouts configures {asked.share}: {'; '.join(other)}.",
            "Look for another section of that name in the server’s configuration.",
        )
    if facts.account is None:
        return
    gives = let_in(System(accounts={asked.account: facts.account}), offer, asked.account, facts.groups, on)
    shall, changed = planned.level, ""
    if wanted is not None:
        mine = groups_of(planned.system, asked.account)
        shall = min(shall, let_in(planned.system, wanted, asked.account, mine, on))
        changed = f" {words(Step(part='offers', before=wanted, after=offer))}." if wanted != offer else ""
    if gives < shall:
        yield _amiss(
            "share",
            f"The share {asked.share} gives {asked.account} {gives.words}; the plan says {shall.words}.{changed}",
            AGAIN,
        )
    elif not offer.foreign:
        yield _well("share", f"The share {asked.share} is in effect, and gives {asked.account} {gives.words}.")


def _export(asked: Asked, planned: Planned, facts: Facts) -> Iterator[HostCheck]:
    export = facts.export
    if export is None:
        yield _amiss("share", f"The NFS server exports no share {asked.share}.", AGAIN)
        return
    if not asked.machine:
        yield _unknown(
            "host",
            f"{asked.share} is exported to {', '.join(rule.hosts for rule in export.rules)}.",
            "Say from which address they come.",
        )
        return
    rule = host_rule(export.rules, "narrowest", ip_address(asked.machine), "", "names")
    if rule is None or rule.level < Level.RO:
        yield _amiss("host", f"{asked.machine} may not mount {asked.share}.", "Add a host rule under Shares.")
    elif rule.level < planned.level:
        yield _amiss(
            "host",
            f"{asked.machine} mounts {asked.share} for reading only ({rule.hosts}).",
            "Change the host rule under Shares.",
        )
    else:
        yield _well("host", f"{asked.machine} may mount {asked.share}: {rule.hosts}, {rule.level.words}.")


def _folders(asked: Asked, planned: Planned, facts: Facts) -> Iterator[HostCheck]:
    """Every folder on the way, then the thing itself."""
    roots = facts.offer.roots if facts.offer is not None and asked.protocol == "smb" else ()
    is_root = not {asked.account, *(f"{GROUP_MARK}{group}" for group in facts.groups)}.isdisjoint(roots)
    asked, facts = _acting(asked, planned, facts)
    way, things = (facts.folders, ()) if facts.missing else (facts.folders[:-1], facts.folders[-1:])
    shut = next((one for one in way if not is_root and not _rights(one, asked, facts).folder & EXECUTE), None)
    if facts.link and asked.protocol == "smb":
        said = f"{facts.link} is a link that leads out of the share; the SMB server follows none of these."
        yield _amiss("folder", said, "Put the folder itself there.")
    elif shut is not None:
        wanted = planned.system.folders.get(shut.name)
        act = f"On the host: chmod a+x {shut.name}" if wanted is None else _mend(shut, wanted)
        yield _amiss("folder", f"{asked.account} may not enter {shut.name} on the way.{_differs(shut, wanted)}", act)
    elif facts.missing:
        is_planned = facts.missing in planned.system.folders
        yield _amiss(
            "folder", f"{facts.missing} is not there.", AGAIN if is_planned else "Look for it under another name."
        )
    else:
        yield _well("folder", f"{asked.account} may enter every folder on the way.")
        for thing in things:
            yield _thing(asked, planned, facts, thing, EVERYTHING if is_root else _rights(thing, asked, facts))


def _thing(asked: Asked, planned: Planned, facts: Facts, thing: Folder, rights: Rights) -> HostCheck:
    if facts.is_file:
        reads, writes = bool(rights.file & READ_DATA), bool(rights.file & WRITE_DATA)
    else:
        reads, writes = rights.folder & LISTS == LISTS, bool(rights.folder & ADD_FILE)
    does = DOES[reads, writes]
    wanted = planned.system.folders.get(thing.name)
    said = f"By the list of {thing.name} itself, {asked.account} {does}.{_differs(thing, wanted)}"
    if (reads or planned.level < Level.RO) and (writes or planned.level < Level.RW):
        return _well("thing", said)
    return _amiss("thing", said, PUSH if wanted is None else _mend(thing, wanted))


LISTS = LIST_DIRECTORY | EXECUTE
DOES = {
    (True, True): "reads and changes it",
    (True, False): "may only read it",
    (False, True): "may only write it",
    (False, False): "can do nothing with it",
}
PUSH = "Push the folder’s list down over what lies in it (Rollout, Look into the folders)."


def _mend(there: Folder, wanted: Folder) -> str:
    """What mends a list that gives too little: a rollout, where it is not as planned."""
    return AGAIN if wanted != there else "Change its list under Storage."


def _acting(asked: Asked, planned: Planned, facts: Facts) -> tuple[Asked, Facts]:
    """As whom the file system sees somebody: over SMB a share may have all act as one account, or be in one group besides."""
    offer = facts.offer if asked.protocol == "smb" else None
    if offer is None or not (offer.acts_as or offer.acts_as_group):
        return asked, facts
    groups = groups_of(planned.system, offer.acts_as) if offer.acts_as else facts.groups
    if offer.acts_as_group and not offer.acts_as and facts.account is not None and "\\" in asked.account:
        groups -= {facts.account.primary}  # a directory's account counts as the share's group in its place
    acting = replace(asked, account=offer.acts_as or asked.account)
    return acting, replace(facts, groups=groups | {offer.acts_as_group} - {""})


def _rights(thing: Folder, asked: Asked, facts: Facts) -> Rights:
    """What the list of a folder gives, or of the file at the end of the way, which has one of its own."""
    if not facts.is_file or thing is not facts.folders[-1]:
        return rights_in(thing, asked.account, facts.groups)
    if not isinstance(thing.listed, Posix):
        return Rights(0, rights_in(thing, asked.account, facts.groups).folder)
    is_owner, in_group = asked.account == thing.owner, thing.group in facts.groups
    mine = {"user": {"", asked.account}, "group": {"", *facts.groups}}  # an account may be called as a group is
    listed = [e for e in thing.listed.access if e.who in mine.get(e.tag, {""})]
    deciding = posix.matching(listed, {asked.account, *facts.groups}, is_owner, in_group)
    return Rights(0, posix.rights_on_file(deciding, is_owner))


def _differs(there: Folder, wanted: Folder | None) -> str:
    if wanted is None or wanted == there:
        return ""
    return f" It is not as the plan has it: {words(Step(part='folders', before=wanted, after=there))}."


def _file_system(planned: Planned, facts: Facts) -> Iterator[HostCheck]:
    if facts.read_only and planned.level == Level.RW:
        yield _amiss(
            "file system",
            "The file system there is mounted read-only.",
            "On the host: look why (dmesg), then mount -o remount,rw.",
        )
    elif facts.full and planned.level == Level.RW:
        yield _amiss("file system", f"The file system there is full: {facts.full}.", "Make room, or let it grow.")
    elif facts.folders:
        yield _well("file system", "The file system takes what is written.")


def _tried(asked: Asked, facts: Facts) -> Iterator[HostCheck]:
    if facts.tried and facts.tried != "in" and "LOGON_FAILURE" not in facts.tried:
        yield _amiss("client", f"A client on the appliance, signing in as {asked.account}, was told: {facts.tried}.")
    else:
        yield _unknown(
            "client",
            f"If it still fails, it is their computer: {CLIENT[asked.protocol]}, or the name leads it to another machine.",
        )
