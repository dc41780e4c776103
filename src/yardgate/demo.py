"""The demo plan: Lantern Quay Boatworks, a made-up boatyard, with real trouble to find in it."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry as ListEntry
from yardgate.core.acl import Mode, Ordered, OwnList, Posix, PosixEntry
from yardgate.core.acl.posix import Tag
from yardgate.core.acl.rights import Level
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Leave, RemoveShare, SetGrant
from yardgate.core.host.compiled import compiled
from yardgate.core.host.contents import Thing, made
from yardgate.core.host.going_back import named
from yardgate.core.host.sign_in import OpenSession
from yardgate.core.host.state import System
from yardgate.core.model.agreements import Promise
from yardgate.core.model.directory import AccountRecord, Copy, Directory, Ref
from yardgate.core.model.names import Names, fresh_id
from yardgate.core.model.needs import WISHES, Need
from yardgate.core.model.plan import (
    EVERYONE,
    LOCAL,
    Behaviour,
    DatasetOptions,
    Enforcement,
    Group,
    Place,
    PlaceKind,
    Plan,
    Snapshots,
    Target,
    User,
)
from yardgate.core.model.share import HostRule, Share
from yardgate.drivers.directory.accounts import records
from yardgate.drivers.simulator_earlier import Earlier
from yardgate.drivers.simulator_earlier import lying as lying_in
from yardgate.formats import ldif
from yardgate.formats.ldif import LdifEntry
from yardgate.formats.notation import flags_of, perms_of, rights_of
from yardgate.formats.promises import read_sentence

PEOPLE = """
Mira Oyelaran: Draughting
Priya Natarajan: Draughting, Apprentices
Tomas Brandt: Draughting
Edda Lindqvist: Draughting
Gwen Castellan: Shopfloor
Idris Falk: Shopfloor
Bo Hendrickx: Shopfloor
Marisol Vega: Shopfloor
Ansel Krug: Shopfloor, Rigging
Farid Haddad: Shopfloor
Yusuf Demir: Shopfloor
Signe Aalto: Rigging
Caleb Nwosu: Rigging
Runa Solheim: Rigging
Lena Moravec: Front Desk
Pia Lombardi: Front Desk
Saskia de Wit: Front Desk, Ledger
Oskar Dahl: Ledger
Beatriz Almeida: Ledger
Juno Harker: Apprentices, Shopfloor
Leif Arnesen: Apprentices, Rigging
Noor Rahman: Apprentices
Henrik Vance: Directors
Amara Okafor: Directors
Dorothea Winn: Directors, Ledger
Viktor Sand: Shopfloor
Imke Brouwer: Draughting
"""
SERVICES = ("cnc-router", "scan-station", "night-backup")

PLACES = """
pool keel
  dataset drawings
    folder released
    folder in-progress
    folder toolpaths
  dataset hulls
    folder curlew-31
    folder petrel-9
    folder warranty
  dataset office
    folder quotes
    dataset payroll
    folder minutes
  dataset common
    folder noticeboard
    folder scans-in
    folder photos
  dataset training
pool ballast
  dataset backups
    folder nightly
  dataset vm-images
"""

# In list order, which matters where the first line wins.
GRANTS = """
drawings: Draughting RW, Shopfloor RO, Directors RO, night-backup RO
released: Draughting RW, Shopfloor RO, Rigging RO, Front Desk RO, Apprentices RO, Directors RO, night-backup RO
in-progress: Draughting RW, Directors RO, night-backup RO
toolpaths: Apprentices NA, Draughting RW, Shopfloor RO, cnc-router RO, night-backup RO
hulls: Yard RO, Office RO, Directors RO, night-backup RO
curlew-31: Shopfloor RW, Rigging RW, Draughting RO, Front Desk RO, night-backup RO
petrel-9: Shopfloor RW, Rigging RW, Draughting RO, Tomas Brandt RW, Front Desk RO, Viktor Sand RW, night-backup RO
warranty: Front Desk RW, Yard RO, Draughting RO, Directors RO, night-backup RO
office: Office RO, night-backup RO
quotes: Front Desk RW, Ledger RW, Directors RW, night-backup RO
payroll: Ledger RW, Directors RW, Front Desk NA, Apprentices NA, night-backup RO
minutes: Directors RW, Ledger RO, Beatriz Almeida RW, Apprentices NA, night-backup RO
common: All staff RO, night-backup RO
noticeboard: All staff RO, Front Desk RW, Directors RW, night-backup RO
scans-in: All staff RW, scan-station RW, night-backup RO
photos: All staff RO, Front Desk RW, Idris Falk RW, night-backup RO
training: All staff RO, Apprentices RW, Directors RW, Noor Rahman RO, night-backup RO
backups: Henrik Vance RO
nightly: Henrik Vance RW, Viktor Sand RW, Directors NA
vm-images: Machines RO, Imke Brouwer RW
"""


# How storage stands: place: owner and owning group (- for as it comes), then its list by hand in the letters of nfs4_acl(5) or
# of setfacl(1), or a mode. "cut": nothing comes down.
STORAGE = """
keel: - - | ordered
in-progress: - - cut | ordered
toolpaths: cnc-router - | ordered
hulls: - Yard | posix setgid
petrel-9: - - | posix user:Leif Arnesen:r-x
warranty: - Front Desk cut | posix
office: - - | ordered
payroll: - Ledger cut | ordered
minutes: - - cut | ordered allow:Directors:rwaDdxtTnNcCy:fd
common: - - | ordered allow:everyone:xty:
photos: Idris Falk - | ordered
training: - Apprentices | posix group::rw-
ballast: - - | mode 0755
backups: - Directors cut | mode
nightly: Henrik Vance Directors cut | mode 0750
vm-images: Henrik Vance Machines | mode 2770
"""
# What pools are on the host and have; what datasets may hold, and do hold, in GiB; of which snapshots are kept.
DATASETS = """
keel: btrfs 4096
drawings: 600 431 snapshots
hulls: 900 512 snapshots
office: 200 46 snapshots
payroll: 20 3 snapshots
common: 150 139
ballast: zfs 8192
backups: 4096 2212
vm-images: 500 187
"""
ANSWERED: tuple[Behaviour, ...] = ("several", "nearest", "traverse", "host_rules")  # the rest is assumed
# What must stay true; the second is broken in the plan.
# What people need: who, what and where, who asked for it, why.
NEEDS = """
All staff: read common, photos, noticeboard, training; change scans-in | Henrik Vance
Draughting: change drawings, toolpaths; read warranty | Mira Oyelaran
Shopfloor: read drawings, toolpaths, hulls, warranty | Gwen Castellan
Rigging: read hulls, warranty | Signe Aalto
Front Desk: change quotes, warranty, noticeboard, photos; read hulls | Lena Moravec | they answer for offers and complaints
Ledger: change quotes, payroll; read minutes; any hulls | Oskar Dahl
Directors: change quotes, payroll, minutes, training, noticeboard; read drawings, toolpaths, hulls, warranty | Henrik Vance
Apprentices: change training | Henrik Vance | each keeps a log of what they learned
Priya Natarajan: must not toolpaths | Tomas Brandt | not before she may run the router
Juno Harker: must not toolpaths | Gwen Castellan | not before he may run the router
Saskia de Wit: must not payroll | Oskar Dahl | works at the front desk, too
Beatriz Almeida: change minutes | Henrik Vance | keeps them
Idris Falk: change photos | Lena Moravec | takes the pictures
night-backup: read drawings, toolpaths, hulls, warranty, quotes, payroll, minutes | Henrik Vance
cnc-router: read toolpaths | Gwen Castellan
"""
PROMISES = """
Everyone but Ledger, Directors and night-backup must not be able to read keel/office/payroll
Draughting must be able to read keel/drawings/toolpaths
Apprentices must be able to write keel/training
night-backup must be able to read keel/hulls
Guest must not be able to see keel/office
cnc-router must be able to read keel/drawings/toolpaths over NFS
"""
CARRIED: dict[str, Enforcement] = {"keel": "storage", "office": "both", "ballast": "storage", "vm-images": "share"}


def _stored(place: Place, ids: Mapping[str, str]) -> Place:
    """A place with what STORAGE says of it. ids: by name of user or group."""
    said = next((line for line in STORAGE.strip().splitlines() if line.startswith(f"{place.name}: ")), None)
    carried = CARRIED.get(place.name)
    if said is None:
        return replace(place, enforced_by=carried)
    head, _, body = said.partition(": ")[2].partition(" | ")
    cut = head.endswith(" cut")
    owner, group = _owners(head.removesuffix(" cut"), ids)
    style, _, entries = body.partition(" ")
    own: OwnList
    if style == "ordered":
        parts = [entry.split(":") for entry in entries.split(" allow:") if entry]
        parts = [part[1:] if part[0] == "allow" else part for part in parts]
        own = Ordered(
            tuple(ListEntry("allow", ids[who], rights_of(mask), flags_of(flags)) for who, mask, flags in parts)
        )
    elif style == "posix":
        setgid = entries.startswith("setgid")
        parts = [entry.split(":") for entry in [entries.removeprefix("setgid").strip()] if entry]
        tags: dict[str, Tag] = {"user": "user", "group": "group"}
        own = Posix(tuple(PosixEntry(tags[t], ids.get(who, ""), perms_of(p)) for t, who, p in parts), None, setgid)
    else:
        own = Mode(int(entries, 8) if entries else None)
    return replace(place, owner=owner, group=group, acl=own, inheritance_stops=cut, enforced_by=carried)


GIB = 1 << 30
KEPT = Snapshots(hours=24, days=7, weeks=4, months=6)


ASKED = {
    "hulls": DatasetOptions(compression="zstd", asked_by="Henrik Vance: laser scans of hulls"),
    "vm-images": DatasetOptions(access_times=False, asked_by="Juno Harker: disks of machines"),
}


def _sized(place: Place) -> Place:
    """A place with what DATASETS says of it."""
    said = next((line for line in DATASETS.strip().splitlines() if line.startswith(f"{place.name}: ")), None)
    if said is None:
        return place
    first, number, *_ = said.partition(": ")[2].split()
    if place.kind == "pool":
        return replace(place, file_system="btrfs" if first == "btrfs" else "zfs", quota=int(number) * GIB)
    return replace(
        place,
        quota=int(first) * GIB,
        snapshots=KEPT if said.endswith(" snapshots") else None,
        options=ASKED.get(place.name),
    )


def _holding(system: System) -> System:
    """What an appliance has, with what its datasets hold."""
    held = dict(line.partition(": ")[::2] for line in DATASETS.strip().splitlines())
    found = {
        path: replace(one, used=int(held[name].split()[1]) * GIB) if one.quota is not None else one
        for path, one in system.datasets.items()
        for name in (path.rpartition("/")[2],)
    }
    return replace(system, datasets=found)


def _owners(text: str, ids: Mapping[str, str]) -> tuple[str | None, str | None]:
    """Owner and owning group of a line; names may have spaces."""
    for at in range(1, len(text)):
        one, other = text[:at].strip(), text[at:].strip()
        if text[at] == " " and (one == "-" or one in ids) and (other == "-" or other in ids):
            return (None if one == "-" else ids[one]), (None if other == "-" else ids[other])
    raise ValueError(text)


PORT = 8738  # of the stand-in for the directory
DIRECTORY = Directory(
    id="lanternquay",
    name="LANTERNQUAY",
    domain="lanternquay.example",
    controller=f"127.0.0.1:{PORT}",
    reader="reader@lanternquay.example",
    base="DC=lanternquay,DC=example",
    high=199_999,
)
SID = "S-1-5-21-1407-2211-3305"


def entries() -> list[LdifEntry]:
    """What the directory holds now."""
    return list(ldif.read((Path(__file__).parent / "lanternquay.ldif").read_bytes()))


def last_copy() -> Copy:
    """The directory as it was when it was last read, three days ago."""
    now = records(DIRECTORY, entries())
    then = {
        key: replace(record, **BEFORE.get(record.name, {}))
        for key, record in now.items()
        if record.name != "nadia.roux"
    }
    dana = AccountRecord(
        key=f"{SID}-1109",
        sid=f"{SID}-1109",
        dn="CN=Dana Rook,OU=Office,DC=lanternquay,DC=example",
        kind="person",
        name="dana.rook",
        full_name="Dana Rook",
        aliases=("dana.rook@lanternquay.example",),
        primary=Ref("sid", f"{SID}-513"),
    )
    at = datetime.now(UTC) - timedelta(days=3)
    return Copy({**then, dana.key: dana}, "usn 1000 CN=NTDS Settings,CN=STAND-IN", at.isoformat(timespec="seconds"))


# What was otherwise at the last reading.
BEFORE: dict[str, dict[str, Any]] = {
    "ines.duarte": {
        "name": "ines.marques",
        "full_name": "Ines Marques",
        "aliases": ("ines.marques@lanternquay.example",),
    },
    "rolf.petersen": {"enabled": True},
    "Reception": {
        "members": (
            Ref("dn", "CN=Pia Lombardi,OU=Office,DC=lanternquay,DC=example"),
            Ref("dn", "CN=Dana Rook,OU=Office,DC=lanternquay,DC=example"),
        )
    },
    "Season Hands": {"name": "Temps"},
}


def _joined(plan: Plan, directory: Directory) -> Plan:
    """The plan with the front desk and the contractors taken from the directory; who was in it keeps id, groups and grants."""
    copy = last_copy()
    by_name = {record.full_name: record for record in copy.records.values() if record.kind != "group"}
    followed = {
        user.id: replace(user, origin=directory.id, key=by_name[user.full_name].key, aliases=())
        for user in plan.users.values()
        if user.full_name in FROM_DIRECTORY
    }
    settings = {directory.id: directory}
    plan = replace(plan, users={**plan.users, **followed}, directories=settings)
    after, _ = apply(plan, sync(plan, directory, copy.records.values()).edits)
    groups = {group.name: group.id for group in after.groups.values()}
    granted, _ = apply(after, [SetGrant("quotes", groups["Contract Staff"], Level.RO)])
    return granted


FROM_DIRECTORY = ("Lena Moravec", "Pia Lombardi", "Saskia de Wit", "Viktor Sand")


def plan(directory: Directory = DIRECTORY) -> Plan:
    """Twenty-seven people, three services, ten groups, two pools; and a directory with some of them and a few more."""
    taken: set[str] = set()

    def fresh(name: str) -> str:
        found = fresh_id(name, taken)
        taken.add(found)
        return found

    listed: dict[str, list[str]] = {}
    users: dict[str, User] = {}
    for number, line in enumerate(PEOPLE.split("\n")[1:-1]):
        name, _, member_of = line.partition(": ")
        first, _, last = name.partition(" ")
        user = User(
            id=fresh(name),
            name=f"{first}.{last.split()[-1]}".lower(),
            full_name=name,
            uid=1001 + number,
            aliases=(f"{first}@lanternquay.example".lower(),),
            primary_group=fresh_id(member_of.split(", ")[0], ()),
            enabled=name != "Imke Brouwer",
            expires=date(2026, 9, 1) if name == "Viktor Sand" else None,
            jobs=("nightly backup",) if name == "Henrik Vance" else (),
            note={
                "Imke Brouwer": "left in spring",
                "Viktor Sand": "season contract",
            }.get(name, ""),
        )
        users[user.id] = user
        for group in member_of.split(", "):
            listed.setdefault(group, []).append(user.id)
    for number, name in enumerate(SERVICES):
        user = User(id=fresh(name), name=name, kind="service", uid=2001 + number)
        users[user.id] = user
        listed.setdefault("Machines", []).append(user.id)

    groups: dict[str, Group] = {}
    for number, name in enumerate((*listed, "Yard", "Office", "All staff")):
        groups[name] = Group(id=fresh(name), name=name, gid=3001 + number, members=frozenset(listed.get(name, ())))
    for outer, inner in (("Yard", ("Shopfloor", "Rigging")), ("Office", ("Front Desk", "Ledger", "Directors"))):
        whole = groups[outer]
        groups[outer] = Group(
            id=whole.id, name=outer, gid=whole.gid, members=frozenset(groups[name].id for name in inner)
        )

    places = {place.id: place for place in _places(fresh)}
    by_name = {user.full_name or user.name: user.id for user in users.values()}
    by_name |= {group.name: group.id for group in groups.values()} | {"Everyone": EVERYONE, "everyone": EVERYONE}
    at = {place.name: place.id for place in places.values()}
    grants: dict[str, dict[str, Level]] = {}
    for line in GRANTS.strip().splitlines():
        where, _, said = line.partition(": ")
        grants[at[where]] = {
            by_name[who]: Level(level) for who, _, level in (part.rpartition(" ") for part in said.split(", "))
        }
    local = Plan(
        name="keelson",
        office="Lantern Quay Boatworks",
        target=Target(
            baseline=groups["All staff"].id,
            addresses=("keelson", "192.0.2.10"),
            share_groups=True,
            answered=ANSWERED,
        ),
        users=users,
        groups={group.id: group for group in groups.values()},
        places={place.id: _sized(_stored(place, by_name)) for place in places.values()},
        grants=grants,
        shares={share.id: share for share in _shares(at, fresh)},
    )
    return _needing(_promising(_joined(local, directory)))


def _needing(plan: Plan) -> Plan:
    """With what the office says that people need, line by line of `NEEDS`."""
    names = Names(plan)
    found: dict[str, Need] = {}
    for line in NEEDS.strip().splitlines():
        said, _, more = line.partition(" | ")
        who, _, places = said.partition(": ")
        asked_by, _, note = more.partition(" | ")
        for part in places.split("; "):
            wish = next(one for one in WISHES if part.startswith(one))
            for name in part.removeprefix(wish).strip().split(", "):
                need = Need.of(names.who(who)[0], names.place(name)[0], wish, asked_by, note)
                found[need.id] = need
    return replace(plan, needs=found)


def _promising(plan: Plan) -> Plan:
    found: dict[str, Promise] = {}
    for line in PROMISES.strip().splitlines():
        promise = read_sentence(replace(plan, promises=found), line)
        found[promise.id] = promise
    return replace(plan, promises=found)


def _shares(at: Mapping[str, str], fresh: Callable[[str], str]) -> Iterator[Share]:
    for name in ("drawings", "hulls", "office", "quotes", "payroll", "minutes", "common", "training"):
        yield Share(
            id=fresh(f"share {name}"), name=name, place=at[name], hide_unreadable=name in ("drawings", "office")
        )
    yield Share(id=fresh("share scans"), name="scans", place=at["scans-in"], note="where the scanner puts its pages")
    yield Share(id=fresh("share notices"), name="notices", place=at["noticeboard"], guests=Level.RO)
    yield Share(id=fresh("share backups"), name="backups", place=at["backups"], hidden=True)
    machines = (HostRule(hosts="192.0.2.41", level=Level.RO),)
    yield Share(id=fresh("share machines"), name="machines", place=at["toolpaths"], smb=False, nfs=True, hosts=machines)
    everything = (HostRule(hosts="192.0.2.0/24", level=Level.RW),)
    note = "for the virtual machines' host, 192.0.2.20"
    yield Share(
        id=fresh("share images"),
        name="images",
        place=at["vm-images"],
        smb=False,
        nfs=True,
        hosts=everything,
        squash="none",
        note=note,
    )


def _places(fresh: Callable[[str], str]) -> list[Place]:
    found: list[Place] = []
    above: list[str] = []
    for line in PLACES.strip("\n").splitlines():
        depth = (len(line) - len(line.lstrip())) // 2
        kind, name = line.split()
        kinds: dict[str, PlaceKind] = {"pool": "pool", "dataset": "dataset", "folder": "folder"}
        place = Place(id=fresh(name), name=name, kind=kinds[kind], parent=above[depth - 1] if depth else None)
        above[depth:] = [place.id]
        found.append(place)
    return found


STAND_IN_PORT = 8739  # of the stand-in for the appliance
TOP = "/srv"


def rolled_out_plan(plan: Plan) -> Plan:
    """The plan as it was at the last rollout, before a few things were planned since."""
    at = {place.name: place.id for place in plan.places.values()}
    who = {user.full_name or user.name: user.id for user in plan.users.values()}
    groups = {group.name: group.id for group in plan.groups.values() if group.origin == LOCAL}
    notices = next(share.id for share in plan.shares.values() if share.name == "notices")
    before, _ = apply(
        plan,
        [
            SetGrant(at["minutes"], who["Beatriz Almeida"], None),
            SetGrant(at["photos"], who["Idris Falk"], Level.RO),
            Leave(groups["Apprentices"], who["Priya Natarajan"]),
            RemoveShare(notices),
        ],
    )
    return before


def rolled_out(plan: Plan, on: date) -> System:
    """What the last rollout left on the appliance."""
    return _holding(compiled(resolve(rolled_out_plan(plan), on), TOP).system)


def lying(system: System) -> list[Thing]:
    """Files and folders in the folders of the appliance: most were made there, some were brought from elsewhere and keep what they had."""
    found = []
    for path, folder in sorted(system.folders.items()):
        if path.count("/") < 3:
            continue
        names = [f"{path}/{year}" for year in (2023, 2024, 2025, 2026)]
        names += [
            f"{year}/{word} {number}.{kind}"
            for year in names
            for number in range(1, 9)
            for word, kind in (("sheet", "pdf"), ("draft", "txt"))
        ]
        for number, name in enumerate(names):
            thing = Thing(name=name, folder=number < 4, owner=folder.owner, group=folder.group, listed=folder.listed)
            brought = number % 17 == 8 and len(path) % 3 != 1
            found.append(replace(thing, group="root", listed=BROUGHT) if brought else made(folder, thing))
    return found


def snapshots(system: System, things: Iterable[Thing], now: datetime) -> dict[str, dict[str, Earlier]]:
    """Those of the datasets that keep any: of an hour, a day and four days ago. In each, some of what lies there now was not yet, some was
    that is deleted by now, and some had the list that it was brought with."""
    there = {thing.name: thing for thing in things}
    found: dict[str, dict[str, Earlier]] = {}
    for dataset in (one.name for one in system.datasets.values() if one.snapshots is not None):
        kept = lying_in(system, there, dataset)
        for missing, hours in enumerate((1, 24, 96), 1):
            newest = [name for name, thing in kept.things.items() if "/2026/" in name and not thing.folder]
            then = {name: thing for name, thing in kept.things.items() if name not in newest[-2 * missing :]}
            for name in newest[:missing]:
                old = name.rpartition("/")[0] + f"/old list {missing}.txt"
                then[old] = replace(kept.things[name], name=old)
                then[name] = replace(kept.things[name], group="root", listed=BROUGHT)
            at = (now - timedelta(hours=hours)).replace(minute=17, second=1)
            found.setdefault(dataset, {})[named(at)] = Earlier(then, kept.folders)
    return found


WITHOUT_PASSWORD = frozenset({"juno.harker", "leif.arnesen"})
"""Accounts of the demo that were made with a password that nobody was given yet."""


def signed_in(now: datetime) -> tuple[OpenSession, ...]:
    """Sessions that are open on the demo's appliance."""

    def session(account: str, machine: str, hours: float, share: str, *files: str) -> OpenSession:
        since = (now - timedelta(hours=hours)).isoformat(timespec="seconds")
        return OpenSession(account, machine, since, (share,), tuple(f"{TOP}/{file}" for file in files))

    return (
        session("beatriz.almeida", "192.0.2.57", 2.5, "office", "keel/office/payroll/2026/sheet 3.pdf"),
        session("gwen.castellan", "192.0.2.41", 5, "hulls"),
        session("priya.natarajan", "192.0.2.63", 1.2, "drawings", "keel/drawings/2026/draft 2.txt"),
    )


BROUGHT = Posix((PosixEntry("user", "", 6), PosixEntry("group", "", 4), PosixEntry("other", "", 4)))


def by_hand(system: System) -> System:
    """The same after somebody had been at the appliance itself."""
    imke = replace(system.accounts["imke.brouwer"], enabled=True)
    training = system.folders[f"{TOP}/keel/training"]
    assert isinstance(training.listed, Posix)
    opened = tuple(replace(e, perms=7) if e.tag == "other" else e for e in training.listed.access)
    folder = replace(training, listed=replace(training.listed, access=opened))
    return system.having("accounts", imke.name, imke).having("folders", folder.name, folder)
