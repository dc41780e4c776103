"""Four made-up offices, to begin a plan from: everybody and everything in them is there to be renamed."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import cast

from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.difference import difference
from yardgate.core.edits.many import numbered
from yardgate.core.edits.records import Edit
from yardgate.core.edits.transforms import begun
from yardgate.core.model.names import fresh_id
from yardgate.core.model.plan import Group, Place, PlaceKind, Plan, User, new_plan
from yardgate.core.model.share import Share

BASELINE = "Everybody here"


@dataclass(frozen=True, slots=True, kw_only=True)
class Office:
    """people: `name: groups`, a line each; a name in small letters is a service. places: indented, `kind name: who level, …`; datasets in a pool are shared."""

    id: str
    title: str
    words: str
    people: str
    places: str


OFFICES: tuple[Office, ...] = (
    Office(
        id="workshop",
        title="A workshop",
        words="An office and a shop floor: drawings that one side makes and the other reads, a closed folder for wages, a machine that fetches its programs.",
        people="""
            Ada Brook: Office, Management
            Milo Hart: Office
            Ruth Calder: Office
            Jonas Weir: Drawing
            Nell Ferris: Drawing
            Sol Madigan: Floor
            Tess Orchard: Floor
            Wim Daly: Floor
            Kit Larkin: Floor, Trainees
            milling-machine: Machines
            night-copy: Backup
        """,
        places="""
            pool store
              dataset everybody: Everybody here RW, Backup RO
              dataset drawings: Drawing RW, Floor RO, Office RO, Machines RO, Backup RO
              dataset orders: Office RW, Management RW, Drawing RO, Backup RO
              dataset wages: Management RW, Backup RO
              dataset training: Trainees RW, Floor RW, Management RO, Backup RO
        """,
    ),
    Office(
        id="practice",
        title="A practice with a reception",
        words="Two at the desk, those who treat, and bookkeeping: the desk sees appointments and letters, never findings; a scanner drops in what comes on paper.",
        people="""
            Clara Imhof: Treating, Partners
            Noel Abara: Treating, Partners
            Freya Lund: Treating
            Basil Roche: Reception
            Odile Marsh: Reception
            Hana Quist: Books
            scanner: Scanners
            night-copy: Backup
        """,
        places="""
            pool practice
              dataset appointments: Reception RW, Treating RW, Backup RO
              dataset letters: Reception RW, Treating RW, Backup RO
              dataset findings: Treating RW, Backup RO
              dataset scans: Scanners RW, Reception RW, Treating RW, Backup RO
              dataset books: Books RW, Partners RW, Backup RO
        """,
    ),
    Office(
        id="club",
        title="A club",
        words="A board, trainers and helpers: minutes that all may read, members' data for few, pictures that everybody brings.",
        people="""
            Greta Solberg: Board
            Amir Khoury: Board, Treasury
            Leona Pratt: Board, Membership
            Otto Venn: Trainers
            Ivy Castell: Trainers
            Ralf Dunne: Trainers, Membership
            Mina Ojo: Helpers
            night-copy: Backup
        """,
        places="""
            pool club
              dataset pictures: Everybody here RW, Backup RO
              dataset minutes: Board RW, Everybody here RO, Backup RO
              dataset members: Membership RW, Board RO, Backup RO
              dataset treasury: Treasury RW, Board RO, Backup RO
              dataset training: Trainers RW, Helpers RO, Board RO, Backup RO
        """,
    ),
    Office(
        id="agency",
        title="An agency with projects",
        words="A folder and a group for each project, so that who joins one gets in by joining the group; offers and contracts apart.",
        people="""
            Vera Lindholm: Lead, Harbour Fair, Tea Works
            Cyrus Bell: Design, Harbour Fair
            Maud Perrin: Design, Tea Works, North Line
            Elio Grant: Text, Harbour Fair, North Line
            Sunniva Holt: Text, Tea Works
            Dev Anand: Accounts, North Line
            Paula Wren: Accounts
            night-copy: Backup
        """,
        places="""
            pool agency
              dataset harbour-fair: Harbour Fair RW, Accounts RO, Backup RO
              dataset tea-works: Tea Works RW, Accounts RO, Backup RO
              dataset north-line: North Line RW, Accounts RO, Backup RO
              dataset templates: Design RW, Text RW, Everybody here RO, Backup RO
              dataset offers: Lead RW, Accounts RW, Backup RO
        """,
    ),
)


def begin(office: Office) -> Plan:
    """The plan of one of them."""
    taken: set[str] = set()

    def fresh(name: str) -> str:
        taken.add(found := fresh_id(name, taken))
        return found

    users, members = dict[str, User](), dict[str, list[str]]()
    for line in office.people.strip().splitlines():
        name, _, listed = line.strip().partition(": ")
        service = name.islower()
        first, _, last = name.lower().partition(" ")
        user = User(
            id=fresh(name),
            name=name if service else f"{first}.{last}",
            full_name="" if service else name,
            kind="service" if service else "person",
        )
        users[user.id] = user
        for group in listed.split(", "):
            members.setdefault(group, []).append(user.id)
    groups = {
        name: Group(id=fresh(name), name=_called(name), members=frozenset(members.get(name, ())))
        for name in (*members, BASELINE)
    }
    plan = Plan(
        users=users,
        groups={group.id: group for group in groups.values()},
        target=replace(new_plan().target, baseline=groups[BASELINE].id),
    )
    plan, _ = apply(plan, numbered(plan, (*plan.users, *plan.groups)))
    return _with_places(plan, office, {name: group.id for name, group in groups.items()})


def beginning(plan: Plan, office: Office) -> tuple[Edit, ...]:
    """What makes an empty plan that of an office; what is said of the appliance stays."""
    made = begin(office)
    target = replace(plan.target, baseline=made.target.baseline)
    return tuple(difference(plan, replace(made, name=plan.name, office=plan.office, target=target)))


def _called(name: str) -> str:
    """A group's name as every server takes it."""
    return name.lower().replace(" ", "-")


def _with_places(plan: Plan, office: Office, groups: Mapping[str, str]) -> Plan:
    places, grants, shares = dict[str, Place](), dict[str, dict[str, Level]](), dict[str, Share]()
    inside: list[str] = []
    for line in office.places.strip().splitlines():
        text = line.removeprefix(" " * 12)
        depth = (len(text) - len(text.lstrip())) // 2 if inside else 0
        kind, _, rest = line.strip().partition(" ")
        name, _, said = rest.partition(": ")
        inside[depth:] = [fresh_id(name, {*plan.users, *plan.groups, *places})]
        place = Place(id=inside[-1], name=name, kind=cast(PlaceKind, kind), parent=inside[depth - 1] if depth else None)
        if said:
            grants[place.id] = {
                groups[who]: Level(level) for who, _, level in (one.rpartition(" ") for one in said.split(", "))
            }
        places[place.id] = begun(replace(plan, grants=grants), place, "posix")
        if kind == "dataset":
            shares[f"share-{place.id}"] = Share(id=f"share-{place.id}", name=name, place=place.id, hide_unreadable=True)
    return replace(plan, places=places, grants=grants, shares=shares)
