"""Storage: what stands on a place, and larger changes to it, each as edits to look at before they are kept."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from fastapi import APIRouter, HTTPException, Query

from yardgate.api.authentication import Reader, TheServices
from yardgate.api.schemas import CameOut, Id, Standing
from yardgate.api.storage.schemas import (
    Arrangement,
    Forecast,
    HostPlace,
    Layer,
    LineOut,
    ListIn,
    ListOut,
    Lost,
    StartOut,
    StoredPlace,
    UnsaidOut,
)
from yardgate.api.transport.parsing import OffLoop
from yardgate.core.access.forecast import make, rights_to
from yardgate.core.access.membership import token
from yardgate.core.access.spec.explain import COMPUTED
from yardgate.core.access.storage import (
    EntryLine,
    Maker,
    Nfs4State,
    PlaceState,
    PosixKey,
    PosixState,
    StorageState,
    unsaid,
)
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry
from yardgate.core.acl.nfs4 import EVERYTHING_BELOW, INHERITED, on_folder
from yardgate.core.acl.rights import APART, EDITS, READ_DATA
from yardgate.core.edits.records import PutPlace
from yardgate.core.edits.transforms import push_down, restyle, starts
from yardgate.core.host.compiled import file_system, paths
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Place, Plan
from yardgate.formats import list_text
from yardgate.formats.reading import FormatError
from yardgate.services.derived import Services
from yardgate.store.plans import Opened

router = APIRouter(prefix="/plans/{plan}/storage", tags=["storage"], route_class=OffLoop)
LISTED = 500


def standing(storage: StorageState) -> dict[str, Standing]:
    """Of every place that has a list: style, owner, group, carrier, and the grants that came down to it."""
    return {
        place: Standing(
            style=stored.list.style if stored.list is not None else None,
            owner=stored.owner,
            group=stored.group,
            enforced_by=stored.enforced_by,
            came=[CameOut(who=g.who, level=g.level, said_on=g.said_on) for g in stored.grants if g.said_on != place],
        )
        for place, stored in storage.items()
    }


def _place(plan: Plan, place: str) -> None:
    if place not in plan.places:
        raise HTTPException(404, "This plan has no such place any more")


@router.get("/kinds")
def kinds(plan: str, _: Reader, services: TheServices, place: Id | None = None) -> list[StartOut]:
    """Ways to begin with a place, by what it is for; without one: with a new pool, whose id and name are still to be given."""
    p = services.plans.open(plan).plan
    if place is not None:
        _place(p, place)
    here = p.places[place] if place is not None else Place(id="pool", name="pool", kind="pool")
    return [
        StartOut(id=s.id, title=s.title, words=s.words, sets=list(s.sets), edits=[PutPlace(s.place)])
        for s in starts(p, here)
    ]


@router.get("/push-down")
def push(plan: str, _: Reader, services: TheServices, place: Id, everything: bool = False) -> Arrangement:
    """The edits that make all below a place just follow it, and what each nested place loses by it or keeps."""
    p = services.plans.open(plan).plan
    _place(p, place)
    found = push_down(p, place, everything=everything)
    lost = [Lost(place=o.place, words=list(o.words), left=o.left) for o in found.places]
    return Arrangement(edits=list(found.edits), lost=lost)


@router.get("/style")
def style(
    plan: str, _: Reader, services: TheServices, place: Id, to: Literal["ordered", "posix", "mode"]
) -> Arrangement:
    """The edits that give a place, and what shares its style below, another list style; and what is lost by it."""
    p = services.plans.open(plan).plan
    _place(p, place)
    found = restyle(p, place, to)
    words: dict[str, list[str]] = {}
    for where, what in found.lost:
        words.setdefault(where, []).append(what)
    return Arrangement(edits=list(found.edits), lost=[Lost(place=w, words=v, left=False) for w, v in words.items()])


@router.get("/forecast")
def forecast(
    plan: str,
    _: Reader,
    services: TheServices,
    place: Id,
    who: Id,
    kind: Literal["file", "folder"] = "file",
    mode: Annotated[int, Query(ge=0, le=0o777)] = 0o666,
    umask: Annotated[int, Query(ge=0, le=0o777)] = 0o022,
) -> Forecast:
    """What a thing will be that somebody makes in a place, and who can then read or change it."""
    opened = services.plans.open(plan)
    p, matrix = opened.plan, services.matrix(opened)
    _place(p, place)
    stored = matrix.storage.get(place)
    if who not in p.users or stored is None or stored.list is None:
        raise HTTPException(404, "Choose somebody of this plan, and a place whose storage is planned")
    made = make(p, stored, who, kind, mode, umask)
    can: dict[str, list[str]] = {"change": [], "read": [], "nothing": []}
    for user in sorted(p.users.values(), key=lambda user: fold(user.full_name or user.name)):
        reached = matrix.level(user.id, place) != "NA" and user.active(matrix.on)
        rights = rights_to(p, made, user.id, token(p, user.id)) if reached else 0
        changes = rights & EDITS == EDITS and not rights & APART
        answer = "change" if changes else "read" if rights & READ_DATA else "nothing"
        can[answer].append(user.id)
    by_hand: dict[PosixKey, tuple[str, Maker]] = {(e.tag, e.who): (place, "hand") for e in made.access}
    lines = _posix_lines(made.access, by_hand) or [_entry_line(EntryLine(e, place, "hand")) for e in made.entries]
    return Forecast(owner=made.owner, group=made.group, setgid=made.setgid, lines=lines, **can)


@router.post("/text")
def from_text(plan: str, _: Reader, services: TheServices, body: ListIn) -> ListOut:
    """A list from text in the notation of nfs4_acl(5) or of getfacl(1). Raises with line and column, like an import."""
    p = services.plans.open(plan).plan
    own, unknown = list_text.list_from_text(p, body.text, body.style)
    if unknown:
        raise FormatError(f"{unknown[0].name!r} is nobody of this plan", unknown[0].line, 1)
    return ListOut(acl=own, text=list_text.list_text(p, own))


@router.get("")
def stored(plan: str, place: Id, _: Reader, services: TheServices) -> StoredPlace:
    """A place's list with where each line comes from, layer by layer from the top, and the order in which it is read."""
    opened = services.plans.open(plan)
    p, matrix = opened.plan, services.matrix(opened)
    _place(p, place)
    stored = matrix.storage.get(place)
    layers = [_layer(p, matrix.storage, step, place) for step in p.path(place)]
    reading: list[LineOut] = []
    default: list[LineOut] = []
    report: Sequence[UnsaidOut] = []
    personal: list[str] = []
    setgid = sticky = False
    if stored is not None and stored.list is not None:
        reading, default = _reading(stored)
        found = unsaid(p, matrix.counting, stored)
        report = [UnsaidOut(subject=u.subject, wanted=u.wanted, gets=u.gets) for u in found[:LISTED]]
        if isinstance(stored.list, PosixState):
            personal, setgid, sticky = list(stored.list.personal), stored.list.setgid, stored.list.sticky
    own = p.places[place].acl
    return StoredPlace(
        revision=opened.revision,
        layers=layers,
        reading=reading,
        default=default,
        setgid=setgid,
        sticky=sticky,
        unsaid=list(report),
        personal=personal,
        passes=list(stored.passes) if stored is not None else [],
        text=list_text.list_text(p, own) if own is not None else "",
        on_host=_on_host(services, opened, place) if p.places[place].kind != "folder" else None,
    )


def _on_host(services: Services, opened: Opened, place: str) -> HostPlace:
    path = paths(opened.plan, services.rollouts.destination(opened.id).top)[place]
    there = services.rollouts.in_force(opened.id).datasets.get(path)
    known = services.rollouts.known(opened.id)
    used = there.used if there is not None else None
    read = known.at if known is not None and used is not None else None
    return HostPlace(path=path, file_system=file_system(opened.plan, place), used=used, read=read)


def _reading(stored: PlaceState) -> tuple[list[LineOut], list[LineOut]]:
    if isinstance(stored.list, Nfs4State):
        return [_entry_line(line) for line in stored.list.lines], []
    assert stored.list is not None
    return (
        _posix_lines(stored.list.access, stored.list.origins),
        _posix_lines(stored.list.default or (), stored.list.default_origins),
    )


def _entry_line(line: EntryLine, stops: str | None = None) -> LineOut:
    e, said_on, made = line
    return LineOut(says=e.type, who=e.who, mask=e.mask, flags=e.flags, said_on=said_on, made=made, stops=stops)


def _posix_lines(entries: Sequence[PosixEntry], origins: Mapping[PosixKey, tuple[str, Maker]]) -> list[LineOut]:
    found = []
    for e in entries:
        where, made = origins.get((e.tag, e.who), ("", COMPUTED))
        found.append(LineOut(says=e.tag, who=e.who, mask=e.perms, flags=0, said_on=where, made=made))
    return found


def _layer(plan: Plan, storage: StorageState, step: str, target: str) -> Layer:
    """A place on the way: its own lines, those made of its grants, and whether each of them reaches the place asked about."""
    stored = storage.get(step)
    lines: list[LineOut] = []
    if stored is not None and isinstance(stored.list, Nfs4State):
        own = [line for line in stored.list.lines if line.said_on == step and not line.entry.flags & INHERITED]
        for line in own:
            stops = _stops(plan, storage, step, target, line) or _said_anew(plan, storage[target], step, line)
            lines.append(_entry_line(line, stops))
    elif stored is not None and isinstance(stored.list, PosixState):
        hands_on = step != target and stored.list.default is not None
        entries = stored.list.default or () if hands_on else stored.list.access
        origins = stored.list.default_origins if hands_on else stored.list.origins
        cut = _cut_between(plan, storage, step, target) if step != target else None
        lines = [
            line.model_copy(update={"stops": cut}) for line in _posix_lines(entries, origins) if line.said_on == step
        ]
    here = plan.places[step]
    return Layer(
        place=step,
        style=stored.list.style if stored is not None and stored.list is not None else None,
        owner=stored.owner if stored is not None else "root",
        group=stored.group if stored is not None else "root",
        inheritance=here.inheritance,
        by_hand=_by_hand(here.acl),
        lines=lines,
    )


def _by_hand(own: OwnList | None) -> int:
    match own:
        case Ordered(entries):
            return len(entries)
        case Posix(access, default):
            return len(access) + len(default or ())
        case Mode(int()):
            return 1
        case _:
            return 0


def _stops(plan: Plan, storage: StorageState, step: str, target: str, line: EntryLine) -> str | None:
    """Why a line of a place above does not reach the one asked about; None where it does, or is of that place itself."""
    if step == target:
        return None
    if line.made == "pass":
        return "this folder only: it lets people through"
    if cut := _cut_between(plan, storage, step, target):
        return cut
    entry: Entry | None = line.entry
    path = plan.path(target)
    for _ in path[path.index(step) + 1 :]:
        entry = on_folder(entry) if entry is not None else None
    if entry is None:
        return "this folder only" if not line.entry.flags & EVERYTHING_BELOW else "one level down only"
    return None


def _said_anew(plan: Plan, target: PlaceState, step: str, line: EntryLine) -> str | None:
    """A grant from above that is said differently below does not count any more."""
    anew = next((g.said_on for g in target.grants if g.who == line.entry.who and g.said_on != step), None)
    return f"granted again on {plan.places[anew].name}" if line.made == "grant" and anew is not None else None


def _cut_between(plan: Plan, storage: StorageState, step: str, target: str) -> str | None:
    path = plan.path(target)
    for lower in path[path.index(step) + 1 :]:
        above = storage[plan.places[lower].parent or ""].list
        here = storage[lower].list
        if plan.places[lower].inheritance_stops:
            return f"inheritance stops at {plan.places[lower].name}"
        if above is not None and here is not None and above.style != here.style:
            return f"{plan.places[lower].name} has another list style"
    return None
