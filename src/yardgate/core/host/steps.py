"""From what an appliance has to what a plan comes to: ordered steps, each of which can be taken back.

A step sets one record to a value. So carrying it out twice does no harm, undoing it is setting the value from before, and reading
back is looking whether the value stands.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from yardgate.core.acl import Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.rights import STRICT
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import (
    OPTIONS,
    PARTS,
    Dataset,
    Export,
    Folder,
    HostAccount,
    HostGroup,
    HostService,
    Members,
    R,
    Record,
    RecordKind,
    System,
    as_made,
)
from yardgate.core.model.share import Protocol

Does = Literal["make", "change", "rename", "remove"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One record of the appliance, from what it is to what it shall be. before None: it is not there; after None: it goes.

    wipe: a folder or dataset goes with all that is in it; otherwise only where nothing is.
    """

    __pydantic_config__ = STRICT
    part: RecordKind
    before: Record | None
    after: Record | None
    wipe: bool = False

    @property
    def record(self) -> Record:
        found = self.after if self.after is not None else self.before
        assert found is not None
        return found

    @property
    def id(self) -> str:
        """What becomes of which record; one that is ended and made anew has two."""
        match self.does:
            case "rename" if self.before is not None:
                return f"{self.part}:{self.before.name}>{self.record.name}"
            case "remove":
                return f"{self.part}:{self.record.name}>"
        return f"{self.part}:{self.record.name}"

    @property
    def does(self) -> Does:
        if self.before is None:
            return "make"
        if self.after is None:
            return "remove"
        return "change" if self.before.name == self.after.name else "rename"

    @property
    def destroys(self) -> bool:
        """Whether something is lost that taking the step back does not bring back."""
        return self.after is None and (self.wipe or self.part == "accounts")

    @property
    def renumbers(self) -> bool:
        """Whether a group or an account gets or gives up a number, by which lists on folders go; one that is not known does not count."""
        was, now = number_of(self.before), number_of(self.after)
        is_known = None not in (was, now) or None in (self.before, self.after)
        return was != now and is_known

    @property
    def reloads(self) -> Protocol | None:
        """The service that has to read its configuration anew."""
        return {"offers": "smb", "exports": "nfs"}.get(self.part)  # type: ignore[return-value]

    def back(self) -> "Step":
        return replace(self, before=self.after, after=self.before, wipe=False)

    def onto(self, system: System) -> System:
        """The appliance after the step."""
        if self.does == "rename":
            return _renamed(system, self)
        then = system.having(self.part, self.record.name, self.after)
        if isinstance(self.record, Dataset) and self.does != "change":
            return then.having("folders", self.record.name, None if self.after is None else as_made(self.record))
        return _renumbered(then, self) if self.renumbers and _is_listed(self, system) else then


def number_of(record: Record | None) -> int | None:
    return record.uid if isinstance(record, HostAccount) else record.gid if isinstance(record, HostGroup) else None


@dataclass(frozen=True, slots=True, kw_only=True)
class Destination:
    """Where a plan goes. papers: to an appliance that cannot be reached; here: to the host that Yard Gate runs on; ssh: to another, as
    `user`, with the public key that it was agreed to have, `as_root` where sudo(8) has to be asked; stand-in: to a simulated one at a port of this machine.
    joined: ids of the plan's directories to which the host is joined itself. top: the folder in which the pools lie, or are mounted. lowest,
    highest: of the numbers that accounts and groups may be given.
    """

    __pydantic_config__ = STRICT
    kind: Literal["papers", "here", "ssh", "stand-in"] = "papers"
    host: str = ""
    port: int = 22
    user: str = "root"
    key: str = ""
    as_root: bool = False
    joined: tuple[str, ...] = ()
    top: str = "/srv"
    lowest: int = 1000
    highest: int = 60000

    @property
    def appliance(self) -> str:
        """Which one it is, whatever else is said of it."""
        return f"{self.kind} {self.host} {self.port}" if self.kind in ("ssh", "stand-in") else self.kind


def stands(record: Record | None, wanted: Record | None) -> bool:
    """Whether a record is as it shall be; a number that nobody asked for may be any, nobody in a group is like no group, and a server program
    of which nothing is said goes on as it is."""
    if record is None or wanted is None:
        there = record if record is not None else wanted
        if wanted is None and isinstance(record, HostService):
            return True
        return there is None or (isinstance(there, Members) and not there.users)
    return record == settled(record, wanted)


def settled(record: Record, wanted: Record) -> Record:
    """What shall be, with the numbers that the appliance gave where none was asked for."""
    match record, wanted:
        case HostAccount(uid=int(uid)), HostAccount(uid=None):
            return replace(wanted, uid=uid)
        case HostGroup(gid=int(gid)), HostGroup(gid=None):
            return replace(wanted, gid=gid)
        case Dataset(case_sensitive=case), Dataset():  # which is settled when it is made
            left = {name: getattr(record, name) for name in OPTIONS if getattr(wanted, name) is None}
            return replace(wanted, case_sensitive=case, **left)
    return wanted


# --- the difference ---------------------------------------------------------------------------------------------------


def steps(now: System, wanted: System) -> tuple[Step, ...]:
    """What brings an appliance from one to the other, in the order in which it has to be done.

    Nothing is deleted by it: an account that is not wanted any more is shut, a group emptied, a share ended, a folder left as it is
    (`removals` would delete them), as a dataset is, a server program goes on. Shares that go are ended first and shares that come are offered last, so that nobody gets in
    over what is half done. An export that gives up a folder or a host which another takes is ended first, too, and made anew.
    """
    renamed = tuple(_renames(now, wanted))
    followed = after(now, renamed)
    whole = _kept(followed, wanted)
    found: dict[RecordKind, list[Step]] = {part: [] for part in PARTS}
    for part in PARTS:
        if part == "folders":
            followed = after(followed, (*found["groups"], *found["accounts"], *found["datasets"]))
        was, shall = followed.part(part), whole.part(part)
        for name in sorted(was.keys() | shall.keys(), key=lambda name: (name.count("/"), name)):
            before, then = was.get(name), shall.get(name)
            if before is not None and then is not None:
                then = settled(before, then)
            if not stands(before, then):
                found[part].append(Step(part=part, before=before, after=then))
    found["exports"] = list(_apart(found["exports"]))
    for part in ("groups", "accounts"):
        found[part] = _freed_first(sorted(found[part], key=_takes_a_free_number))
    shares: tuple[RecordKind, ...] = ("offers", "exports")
    ending = [step for part in shares for step in found[part] if step.after is None]
    rest = [step for part in PARTS for step in found[part] if step not in ending]
    return (*ending, *renamed, *rest)


def _takes_a_free_number(step: Step) -> bool:
    """Whether the host gives a number of its own choice, which may be one that is planned for another: so that is done last."""
    return step.before is None and number_of(step.after) is None


def _freed_first(changes: Sequence[Step]) -> list[Step]:
    """A number is given up before another takes it. Where numbers are exchanged in a circle, no order helps."""
    held = {number_of(step.before): step for step in changes if step.renumbers and step.before is not None}
    order: dict[str, Step] = {}
    for one in changes:
        chain: dict[str, Step] = {}
        step: Step | None = one
        while step is not None and step.id not in order and step.id not in chain:
            chain[step.id] = step
            step = held.get(number_of(step.after)) if number_of(step.after) is not None else None
        order |= reversed(chain.items())
    return list(order.values())


def _apart(exports: Sequence[Step]) -> Iterator[Step]:
    taking = {held: step.after.name for step in exports if isinstance(step.after, Export) for held in holds(step.after)}
    for step in exports:
        if isinstance(step.before, Export) and step.does == "change":
            name = step.before.name
            if any(taking.get(held, name) != name for held in holds(step.before)):
                yield replace(step, after=None)
                step = replace(step, before=None)
        yield step


def holds(export: Export) -> Iterator[tuple[str, str]]:
    """What one export alone can have: a folder with one of its hosts, which such a server knows once (exports(5))."""
    return ((export.path, rule.hosts) for rule in export.rules)


def drift(left: System, found: System) -> tuple[Step, ...]:
    """What is otherwise on an appliance than it was left, as the steps that somebody must have made; deleting among them."""
    changed = []
    for part in PARTS:
        was, there = left.part(part), found.part(part)
        for name in sorted(was.keys() | there.keys()):
            if not stands(there.get(name), was.get(name)):
                changed.append(Step(part=part, before=was.get(name), after=there.get(name)))
    return tuple(changed)


def removals(now: System, wanted: System) -> tuple[Step, ...]:
    """What would delete that which is not wanted any more: accounts, groups, folders from the deepest up."""
    found: list[Step] = []
    parts: tuple[RecordKind, ...] = ("accounts", "groups", "folders")
    for part in parts:
        gone = now.part(part).keys() - wanted.part(part).keys()
        for name in sorted(gone, key=lambda name: (-name.count("/"), name)):
            its: RecordKind = "datasets" if part == "folders" and name in now.datasets else part
            found.append(Step(part=its, before=now.part(its)[name], after=None, wipe=part == "folders"))
    return tuple(found)


def _renames(now: System, wanted: System) -> Iterator[Step]:
    """Groups and accounts that are there under another name: those with the same number; and datasets and folders of the same place of the plan,
    in the same folder."""
    groups = {g.gid: g for g in now.groups.values() if g.name not in wanted.groups}
    for group in wanted.groups.values():
        old = groups.get(group.gid) if group.gid is not None and group.name not in now.groups else None
        if old is not None:
            step = Step(part="groups", before=old, after=replace(old, name=group.name))
            now = step.onto(now)
            yield step
    accounts = {a.uid: a for a in now.accounts.values() if a.name not in wanted.accounts}
    for account in wanted.accounts.values():
        had = accounts.get(account.uid) if account.uid is not None and account.name not in now.accounts else None
        if had is not None:
            step = Step(part="accounts", before=had, after=replace(had, name=account.name))
            now = step.onto(now)
            yield step
    for at in sorted(wanted.datasets.keys() | wanted.folders.keys(), key=lambda path: (path.count("/"), path)):
        moving = _rename_of_place(now, wanted, at)
        if moving is not None:
            now = moving.onto(now)
            yield moving


def _rename_of_place(now: System, wanted: System, at: str) -> Step | None:
    """What shall lie at a path is there already in the same folder, under a name that nothing shall have."""
    part: Literal["datasets", "folders"] = "datasets" if at in wanted.datasets else "folders"
    there: Mapping[str, Dataset | Folder] = getattr(now, part)
    place = getattr(wanted, part)[at].place
    if not place or at in now.folders or at in now.datasets:
        return None
    for was in there.values():
        is_free = was.name not in wanted.folders and was.name not in wanted.datasets
        is_alike = was.place == place and was.name.rpartition("/")[0] == at.rpartition("/")[0]
        if is_free and is_alike and (part == "datasets" or was.name not in now.datasets):
            return Step(part=part, before=was, after=replace(was, name=at))
    return None


def _renamed(now: System, step: Step) -> System:
    """The appliance after a group or account was renamed: lists and memberships go by number and follow; configurations of shares do not."""
    assert step.before is not None
    assert step.after is not None
    old, new = step.before.name, step.after.name
    now = now.having(step.part, old, None).having(step.part, new, step.after)
    if step.part in ("datasets", "folders"):
        return _moved(now, old, new)
    if step.part == "accounts":
        members = [replace(m, users=frozenset(new if u == old else u for u in m.users)) for m in now.members.values()]
        accounts = list(now.accounts.values())
    else:
        members = [replace(m, name=new if m.name == old else m.name) for m in now.members.values()]
        accounts = [replace(a, primary=new if a.primary == old else a.primary) for a in now.accounts.values()]
    return replace(
        now,
        members={m.name: m for m in members},
        accounts={a.name: a for a in accounts},
        folders=_listing(now, step.part, {old: new}),
    )


def _moved(now: System, old: str, new: str) -> System:
    """The appliance after the path of a dataset or folder is another: all that lies in it follows; configurations of shares do not."""

    def there(record: R) -> R:
        inside = record.name == old or record.name.startswith(f"{old}/")
        return replace(record, name=new + record.name.removeprefix(old)) if inside else record

    folders, datasets = map(there, now.folders.values()), map(there, now.datasets.values())
    return replace(now, folders={one.name: one for one in folders}, datasets={one.name: one for one in datasets})


def _renumbered(now: System, step: Step) -> System:
    """The appliance after a group or account got or gave up a number: owners and lists go by it, so what named it has the old number, or
    whoever has that one now, and what had the new number names it."""
    name, old, new = step.record.name, number_of(step.before), number_of(step.after)
    called = {}
    if old is not None:
        called[name] = next((one.name for one in now.part(step.part).values() if number_of(one) == old), str(old))
    if new is not None:
        called[str(new)] = name
    return replace(now, folders=_listing(now, step.part, called))


def _is_listed(step: Step, now: System) -> bool:
    """Whether any list may name it; of what is made, only by the number that it gets."""
    return step.before is not None or str(number_of(step.after)) in now.dangling


def _listing(now: System, part: RecordKind, called: Mapping[str, str]) -> dict[str, Folder]:
    """The folders, where accounts or groups are called otherwise in their lists and as owners."""
    tag = "user" if part == "accounts" else "group"
    mark = GROUP_MARK if tag == "group" else ""
    marks = {f"{mark}{old}": f"{mark}{new}" for old, new in called.items()}

    def entries(some: tuple[PosixEntry, ...]) -> tuple[PosixEntry, ...]:
        return posix.in_order(replace(e, who=called.get(e.who, e.who)) if e.tag == tag else e for e in some)

    def own(listed: Posix) -> Posix:
        return replace(
            listed, access=entries(listed.access), default=None if listed.default is None else entries(listed.default)
        )

    def folder(was: Folder) -> Folder:
        if isinstance(was.listed, Posix):
            listed: Posix | Ordered = own(was.listed)
        else:
            listed = Ordered(tuple(replace(e, who=marks.get(e.who, e.who)) for e in was.listed.entries))
        owner, group = (
            (called.get(was.owner, was.owner), was.group)
            if tag == "user"
            else (was.owner, called.get(was.group, was.group))
        )
        return replace(
            was, owner=owner, group=group, listed=listed, beneath=None if was.beneath is None else own(was.beneath)
        )

    return {one.name: folder(one) for one in now.folders.values()}


def _kept(now: System, wanted: System) -> System:
    """What shall be, with what nobody wants any more shut, emptied or left as it is."""
    shut = {
        name: replace(account, enabled=False, expires=None)
        for name, account in now.accounts.items()
        if name not in wanted.accounts
    }
    empty = {name: Members(name=name) for name in now.members if name not in wanted.members}
    return replace(
        wanted,
        groups={**{n: g for n, g in now.groups.items() if n not in wanted.groups}, **wanted.groups},
        accounts={**shut, **wanted.accounts},
        members={**empty, **wanted.members},
        folders={**{n: f for n, f in now.folders.items() if n not in wanted.folders}, **wanted.folders},
        services={**now.services, **wanted.services},
        datasets={**now.datasets, **wanted.datasets},
    )


def walked(now: System, found: Iterable[Step]) -> Iterator[tuple[Step, System]]:
    """Each step, and what the appliance has before it."""
    for step in found:
        yield step, now
        now = step.onto(now)


def after(now: System, found: Iterable[Step]) -> System:
    """What the appliance has when all steps are done."""
    parts: dict[str, Any] = {}
    for step in found:
        others = step.part == "datasets" or (step.renumbers and _is_listed(step, now))
        if step.does == "rename" or others:  # which changes folders, too
            now, parts = step.onto(replace(now, **parts)), {}
            continue
        own = parts.setdefault(step.part, dict(now.part(step.part)))
        own.pop(step.record.name, None)
        if step.after is not None:
            own[step.after.name] = step.after
    return replace(now, **parts)


def sign_in_again(found: Iterable[Step]) -> frozenset[str]:
    """Accounts whose open sessions keep what they were until they sign in again."""
    again: set[str] = set()
    for step in found:
        match step.before, step.after:
            case (None | Members()) as had, Members(users=now):
                again |= now ^ (had.users if had is not None else frozenset())
            case HostAccount() as was, HostAccount() as now:
                again |= (
                    {now.name}
                    if (was.enabled, was.expires, was.name) != (now.enabled, now.expires, now.name)
                    else set()
                )
    return frozenset(again)


def without_password(found: Iterable[Step]) -> frozenset[str]:
    """Accounts that steps make and open: the SMB server has them under a password that nobody knows."""
    made = (step.after for step in found if step.before is None)
    return frozenset(account.name for account in made if isinstance(account, HostAccount) and account.enabled)
