"""What a step does, in words."""

from collections.abc import Iterable, Sequence

from yardgate.core.acl import Entry, Ordered, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.acl.words import rights, rwx
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import (
    OPTIONS,
    Dataset,
    Export,
    Folder,
    HostAccount,
    HostGroup,
    HostService,
    Members,
    Offer,
)
from yardgate.core.host.steps import Step, sign_in_again, without_password
from yardgate.core.model.naming import size
from yardgate.core.model.plan import GUEST, Snapshots


def words(step: Step) -> str:
    """What a step does, in a line."""
    match step.before, step.after:
        case None, HostGroup(name=name, share=share):
            whom = f", for people granted something by name at the share {share}" if share else ""
            return f"make the group {name}{whom}"
        case HostGroup(name=name), None:
            return f"delete the group {name}"
        case HostGroup() as was, HostGroup() as now:
            return (
                f"rename the group {was.name} to {now.name}"
                if was.name != now.name
                else f"give the group {now.name} the number {now.gid}"
            )
        case None, HostAccount() as now:
            return f"make the account {now.name}{'' if now.enabled else ', disabled'}"
        case HostAccount(name=name), None:
            return f"delete the account {name}"
        case HostAccount() as was, HostAccount() as now:
            return _account_words(was, now)
        case (None | Members()) as was, (None | Members()) as now:
            had, has = (m.users if m is not None else frozenset() for m in (was, now))
            parts = [f"{verb} {_few(users)}" for verb, users in (("add", has - had), ("take out", had - has)) if users]
            return f"members of {step.record.name}: {' and '.join(parts) or 'none'}"
        case (None | Dataset()) as was, (None | Dataset()) as now:
            return _dataset_words(was, now, wipe=step.wipe)
        case None, Folder(name=name):
            return f"make the folder {name} with its owner and list"
        case Folder(name=name), None:
            return f"delete the folder {name} {_with_all(wipe=step.wipe)}"
        case Folder() as was, Folder() as now:
            if was.name != now.name:
                return f"rename the folder {was.name} to {now.name}, with all that is in it"
            return _folder_words(was, now)
        case None, (Offer() | Export()) as now:
            return f"share {now.path} as {now.name} over {_over(step)}"
        case (Offer() | Export()) as was, None:
            return f"stop sharing {was.name} over {_over(step)}; {was.path} stays as it is"
        case Offer() as was, Offer() as now:
            return _offer_words(was, now)
        case Export() as was, Export() as now:
            said = [f"offer {now.path} in place of {was.path}"] if was.path != now.path else []
            said += ["other hosts"] if was.rules != now.rules else []
            said += (
                [{"none": "squash nobody", "root": "squash root", "all": "squash everybody"}[now.squash]]
                if was.squash != now.squash
                else []
            )
            return f"share {now.name} over NFS: {', '.join(said)}"
        case (None | HostService()) as was, (None | HostService()) as now:
            return _service_words(was, now)
    raise TypeError(step)


def _over(step: Step) -> str:
    return "SMB" if step.part == "offers" else "NFS"


def _few(names: Iterable[str], most: int = 6) -> str:
    listed = sorted(names)
    return ", ".join(listed) if len(listed) <= most + 1 else f"{', '.join(listed[:most])} and {len(listed) - most} more"


SERVERS = {"smb": "the SMB server", "nfs": "the NFS server"}


def _service_words(was: HostService | None, now: HostService | None) -> str:
    if now is None:
        return f"leave {SERVERS[was.name] if was is not None else 'it'} as it is"
    if was is None:
        return f"see that {SERVERS[now.name]} runs, and starts with the host"
    said = []
    if was.running != now.running:
        said.append("start it" if now.running else "stop it")
    if was.enabled != now.enabled:
        said.append("let it start with the host" if now.enabled else "let it not start with the host any more")
    return f"{SERVERS[now.name]}: {' and '.join(said)}"


SYSTEMS = {"btrfs": "btrfs subvolume", "zfs": "ZFS dataset"}


def _with_all(*, wipe: bool) -> str:
    return "and all that is in it" if wipe else "if nothing is in it"


def _dataset_words(was: Dataset | None, now: Dataset | None, *, wipe: bool) -> str:
    if now is None:
        assert was is not None
        return f"delete the {SYSTEMS[was.file_system]} {was.name} {_with_all(wipe=wipe)}"
    before = was if was is not None else Dataset(name=now.name, file_system=now.file_system, place=now.place)
    if before.name != now.name:
        return f"rename the {SYSTEMS[now.file_system]} {before.name} to {now.name}, with all that is in it"
    said = []
    if before.quota != now.quota:
        said.append(f"let it hold at most {size(now.quota)}" if now.quota is not None else "no quota any more")
    had, has = ({quota.group: quota.bytes for quota in one.group_quotas} for one in (before, now))
    for group in sorted(had.keys() | has.keys()):
        if had.get(group) != has.get(group):
            said.append(
                f"what belongs to {group} takes at most {size(has[group])}"
                if group in has
                else f"no quota for {group} any more"
            )
    if before.snapshots != now.snapshots:
        said.append(
            f"keep snapshots of {kept_words(now.snapshots)}"
            if now.snapshots is not None
            else "no new snapshots; those that there are stay"
        )
    said += [option_words(name, value) for name in OPTIONS if (value := getattr(now, name)) != getattr(before, name)]
    if before.place != now.place:
        said.append("mark it as the plan’s")
    if was is None:
        alike = "" if now.case_sensitive else ", where names that differ only in case are one"
        return f"make the {SYSTEMS[now.file_system]} {now.name}{alike}{''.join(f'; {one}' for one in said)}"
    return f"{SYSTEMS[now.file_system]} {now.name}: {', '.join(said)}"


def option_words(name: str, value: bool | str | None) -> str:
    """An option of a dataset as it shall be."""
    told = ("on" if value else "off") if isinstance(value, bool) else value
    return f"{name.replace('_', ' ')} {'as above it' if told is None else told}"


def kept_words(kept: Snapshots) -> str:
    """How many snapshots are kept: the newest of each of the last 24 hours, 7 days."""
    parts = [
        f"{number} {unit if number > 1 else unit[:-1]}"
        for number, unit in ((kept.hours, "hours"), (kept.days, "days"), (kept.weeks, "weeks"), (kept.months, "months"))
        if number
    ]
    return f"the last {', '.join(parts)}"


def _account_words(was: HostAccount, now: HostAccount) -> str:
    if was.name != now.name:
        return f"rename the account {was.name} to {now.name}"
    said = []
    if was.enabled != now.enabled:
        said.append("enable it" if now.enabled else "disable it")
    if was.expires != now.expires:
        said.append(f"let it expire on {now.expires}" if now.expires is not None else "let it never expire")
    if was.smb != now.smb:
        said.append(f"{'make' if now.smb else 'end'} its account at the SMB server")
    if was.aliases != now.aliases:
        said.append(
            f"let it sign in as {' and '.join(now.aliases)}, too"
            if now.aliases
            else "let it sign in by its own name alone"
        )
    if was.full_name != now.full_name:
        said.append(f"call it {now.full_name or 'nothing'}")
    if was.primary != now.primary:
        said.append(f"primary group {now.primary}")
    if was.uid != now.uid:
        said.append(f"number {now.uid}; files of {was.uid} keep their old number")
    return f"account {now.name}: {', '.join(said)}"


def _folder_words(was: Folder, now: Folder) -> str:
    said = []
    if was.owner != now.owner:
        said.append(f"owner {now.owner}")
    if was.group != now.group:
        said.append(f"group {now.group}")
    if was.listed != now.listed:
        said.append(list_words(was.listed, now.listed))
    if was.beneath != now.beneath:
        said.append("closed beneath its list" if now.beneath is not None else "opened beneath its list")
    return f"folder {now.name}: {', '.join(said)}"


def list_words(was: Posix | Ordered, now: Posix | Ordered) -> str:
    """What is otherwise in a list."""
    if isinstance(was, Ordered) and isinstance(now, Ordered):
        return _ordered_words(was, now)
    if not isinstance(was, Posix) or not isinstance(now, Posix):
        return (
            "an ordered list in place of a POSIX list"
            if isinstance(now, Ordered)
            else "a POSIX list in place of an ordered list"
        )
    had, has = ({(e.tag, e.who): e.perms for e in own.access} for own in (was, now))
    said = []
    for tag, who in sorted(had.keys() | has.keys()):
        before, after = had.get((tag, who)), has.get((tag, who))
        if before != after and tag != "mask":
            name = who or {"user": "owner", "group": "owning group", "other": "everybody else"}[tag]
            said.append(f"{name} {_rwx(before)} to {_rwx(after)}")
    if len(said) > 3:
        said = [*said[:3], f"{len(said) - 3} more entries"]
    return f"list ({', '.join(said)})" if said else "what new things in it get"


def _ordered_words(was: Ordered, now: Ordered) -> str:
    gone = [e for e in was.entries if e not in now.entries]
    come = [e for e in now.entries if e not in was.entries]
    said = []
    for entry in gone:
        other = next((e for e in come if (e.type, e.who) == (entry.type, entry.who)), None)
        if other is None:
            said.append(f"no longer {_entry_words(entry)}")
        else:
            come.remove(other)
            said.append(f"{entry.who.removeprefix(GROUP_MARK)} from {_mask_words(entry)} to {_mask_words(other)}")
    said += [f"now {_entry_words(entry)}" for entry in come]
    if len(said) > 3:
        said = [*said[:3], f"{len(said) - 3} more entries"]
    return f"list ({', '.join(said)})" if said else "its list in another order"


def _mask_words(entry: Entry) -> str:
    return f"{'refused ' if entry.type == 'deny' else ''}{rights(entry.mask)}"


def _entry_words(entry: Entry) -> str:
    verb = "refuses" if entry.type == "deny" else "gives"
    return f"{verb} {entry.who.removeprefix(GROUP_MARK)} {rights(entry.mask)}"


def _rwx(perms: int | None) -> str:
    return "nothing" if perms is None else rwx(perms)


def _offer_words(was: Offer, now: Offer) -> str:
    said = [f"offer {now.path} in place of {was.path}"] if was.path != now.path else []
    had, has = _levels(was), _levels(now)
    verbs = {
        Level.RW: ("writes", "write"),
        Level.RO: ("only reads", "only read"),
        Level.NA: ("is refused", "are refused"),
        None: ("is no longer named", "are no longer named"),
    }
    for level, (one, several) in verbs.items():
        moved = {who for who in had.keys() | has.keys() if had.get(who) != has.get(who) == level}
        groups = {who for who in moved if who.startswith(GROUP_MARK)}
        if groups:
            said.append(f"members of {_few(who.removeprefix(GROUP_MARK) for who in groups)} {several}")
        if people := moved - groups:
            said.append(f"{_few(people)} {one if len(people) == 1 else several}")
    if was.roots != now.roots:
        said.append(f"root inside: {_few(who.removeprefix(GROUP_MARK) for who in now.roots) or 'nobody'}")
    if was.acts_as != now.acts_as:
        said.append(f"all act as {now.acts_as or 'themselves'}")
    if was.acts_as_group != now.acts_as_group:
        said.append(f"all are in {now.acts_as_group or 'no group besides their own'}")
    if was.guests != now.guests:
        said.append(f"a {GUEST} gets {now.guests.words}")
    for line in sorted({*was.foreign} ^ {*now.foreign}):
        said.append(f"{'no longer' if line in was.foreign else 'also'} {line}")
    for name, yes, no in (
        ("hidden", "not listed", "listed"),
        ("hide_unreadable", "hides what one cannot read", "shows what one cannot read"),
        ("versions", "shows earlier versions", "shows no earlier versions"),
        ("recycle", "keeps what is deleted", "deletes at once"),
    ):
        if getattr(was, name) != getattr(now, name):
            said.append(yes if getattr(now, name) else no)
    return f"share {now.name} over SMB: {', '.join(said)}"


def _levels(offer: Offer) -> dict[str, Level]:
    """What a share's lists say of each name; of everybody, where they let in all who sign in."""
    usual = dict.fromkeys((*offer.enters, *(["everybody"] if offer.everybody else [])), offer.usual)
    only, writes = dict.fromkeys(offer.reads, Level.RO), dict.fromkeys(offer.writes, Level.RW)
    return {**usual, **only, **writes, **dict.fromkeys(offer.refused, Level.NA)}


def afterwards(found: Sequence[Step]) -> tuple[str, ...]:
    """What people have to know when the steps are done."""
    said = []
    if new := sorted(without_password(found)):
        said.append(
            f"Nobody knows the passwords of new accounts; give each one on the host, with smbpasswd NAME: {', '.join(new)}."
        )
    if again := sorted(sign_in_again(found) - without_password(found)):
        said.append(f"These people keep their old access until they sign in again: {', '.join(again)}.")
    return tuple(said)
