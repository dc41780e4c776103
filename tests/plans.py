"""Random plans and random edits, for property tests."""

from dataclasses import replace
from datetime import date
from typing import Any, get_args

from hypothesis import strategies as st

from yardgate.core.access.combining import RULES
from yardgate.core.acl import Entry, Mode, Ordered, OwnList, Posix, PosixEntry
from yardgate.core.acl.mode import MODE
from yardgate.core.acl.nfs4 import FLAGS, GROUP, OWNER
from yardgate.core.acl.rights import CHANGE, FULL, GRANTABLE, PASS, READ, WRITE, Level
from yardgate.core.edits.records import (
    Edit,
    Join,
    Leave,
    PutAccepted,
    PutDirectory,
    PutGroup,
    PutNeed,
    PutPattern,
    PutPlace,
    PutPromise,
    PutService,
    PutShare,
    PutUser,
    RemoveAccepted,
    RemoveDirectory,
    RemoveGroup,
    RemoveNeed,
    RemovePattern,
    RemovePlace,
    RemovePromise,
    RemoveService,
    RemoveShare,
    RemoveUser,
    SetGrant,
    SetTarget,
    SetTitle,
)
from yardgate.core.model.agreements import Accepted, Act, Promise
from yardgate.core.model.directory import Directory
from yardgate.core.model.needs import WISHES, Need
from yardgate.core.model.plan import (
    EVERYONE,
    GUEST,
    LOCAL,
    ROOT,
    Behaviour,
    DatasetOptions,
    Group,
    GroupQuota,
    Pattern,
    PersonalFolders,
    Place,
    Plan,
    Snapshots,
    Target,
    User,
)
from yardgate.core.model.share import HostRule, Order, Protocol, Service, Share, Squash, Wildcards

CROWD = 17
"""As many groups as make somebody lose some over NFS, where a client claims no more than sixteen (RFC 5531, appendix A)."""
NAMES = st.text(st.characters(codec="utf-8", categories=("L", "N", "P", "S")), min_size=1, max_size=8).filter(
    lambda name: "/" not in name and name not in (".", "..")
)
ELSEWHERE = Directory(id="elsewhere", name="ELSEWHERE", domain="elsewhere.example")
LEVELS = st.sampled_from(GRANTABLE)
HOSTS = st.sampled_from(
    ["*", "10.0.0.1", "10.0.0.0/24", "10.0.0.0/8", "10.0.*", "fd00::/8", "bench.yard.example", "*.yard.example"]
)


@st.composite
def plans(draw: st.DrawFn, most: int = 7, lists: bool | None = None, shares: bool | None = None) -> Plan:
    """A small plan with everything that counts in it: nesting of any shape, circles, empty groups, shut accounts, all rules.

    lists: whether the pool has a list, and with it storage is planned; shares: whether there are shares; None leaves it to chance.
    """
    user_ids = [f"u{i}" for i in range(draw(st.integers(0, most)))]
    group_ids = [f"g{i}" for i in range(draw(st.integers(0, most)))]
    crowd = [f"x{i}" for i in range(CROWD)] if user_ids and draw(st.integers(0, 9)) == 0 else []
    maybe_group = st.sampled_from([None, *group_ids])
    origins = {who: draw(st.sampled_from([LOCAL, LOCAL, "elsewhere"])) for who in (*user_ids, *group_ids)}
    hosts = {u for u in (*user_ids, *group_ids) if origins[u] == LOCAL and draw(st.integers(0, 5)) == 0}
    users = {
        u: User(
            id=u,
            name="nobody" if u == "u0" and u in hosts else f"name-{u}",
            of_host=u in hosts,
            full_name=draw(st.sampled_from(["", f"Full {u}"])),
            kind=draw(st.sampled_from(["person", "service"])),
            uid=draw(st.sampled_from([None, None, 1000, 1001, 0])),
            primary_group=draw(maybe_group),
            enabled=draw(st.integers(0, 5)) > 0,
            expires=draw(st.sampled_from([None, None, date(2026, 12, 31), date(2027, 1, 1), date(2027, 1, 2)])),
            **followed(draw, u, origins[u]),
        )
        for u in user_ids
    }
    anybody = st.sampled_from([*user_ids, *group_ids]) if user_ids or group_ids else st.nothing()
    groups = {
        g: Group(
            id=g,
            name=f"name-{g}",
            members=draw(st.frozensets(anybody, max_size=4)),
            gid=draw(st.sampled_from([None, None, 0, 3000, 5005, 5006])),
            of_host=g in hosts,
            **followed(draw, g, origins[g]),
        )
        for g in group_ids
    }
    groups |= {x: Group(id=x, name=f"name-{x}", members=frozenset({"u0"}), gid=5000 + i) for i, x in enumerate(crowd)}
    group_ids += crowd[-2:]
    places = draw(trees())
    if draw(st.booleans()) if lists is None else lists:
        places = {place.id: draw(stored(place, user_ids, group_ids)) for place in places.values()}
        if lists and places["p0"].acl is None:
            places["p0"] = replace(places["p0"], acl=draw(own_lists(user_ids, group_ids)))
    granted = st.sampled_from([*user_ids, *group_ids, EVERYONE])
    grants = {}
    for place in places:
        if lines := draw(st.lists(st.tuples(granted, LEVELS), max_size=6, unique_by=lambda line: line[0])):
            grants[place] = dict(lines)
    kept = draw(st.lists(own_lists(user_ids, group_ids), max_size=2))
    promised = draw(st.lists(promises("", user_ids, group_ids, sorted(places)), max_size=3))
    return Plan(
        name="random",
        target=draw(targets(group_ids)),
        users=users,
        groups=groups,
        places=places,
        grants=grants,
        patterns={f"k{i}": Pattern(id=f"k{i}", name=f"name-{i}", acl=own) for i, own in enumerate(kept)},
        promises={f"m{i}": replace(promise, id=f"m{i}") for i, promise in enumerate(promised)},
        needs={need.id: need for need in draw(st.lists(needs(user_ids, group_ids, sorted(places)), max_size=3))}
        if users or groups
        else {},
        accepted={"kind:p0": Accepted(id="kind:p0", reason="for now")} if draw(st.booleans()) else {},
        directories={"elsewhere": ELSEWHERE} if "elsewhere" in origins.values() else {},
        **(
            draw(offers(sorted(places), [*user_ids, *group_ids]))
            if shares or (shares is None and draw(st.booleans()))
            else {}
        ),
    )


def needs(users: list[str], groups: list[str], places: list[str]) -> st.SearchStrategy[Need]:
    whos = st.sampled_from([*users, *groups] or ["nobody"])
    return st.builds(Need.of, whos, st.sampled_from(places or ["nowhere"]), st.sampled_from(WISHES))


def promises(promise: str, users: list[str], groups: list[str], places: list[str]) -> st.SearchStrategy[Promise]:
    return st.builds(
        Promise,
        id=st.just(promise),
        who=st.sampled_from([*users, *groups, EVERYONE, GUEST]),
        must=st.booleans(),
        act=st.sampled_from(get_args(Act)),
        place=st.sampled_from(places or ["nowhere"]),
        except_for=st.frozensets(st.sampled_from([*users, *groups]), max_size=2)
        if users or groups
        else st.just(frozenset()),
        protocol=st.sampled_from([None, "smb", "nfs"]),
    )


@st.composite
def offers(draw: st.DrawFn, places: list[str], whos: list[str]) -> dict[str, Any]:
    """Shares and file services, as fields of a plan."""
    found = draw(st.lists(offer("", places, whos), min_size=1, max_size=3))
    named = [replace(share, id=f"s{number}", name=f"share-{number}") for number, share in enumerate(found)]
    services = draw(st.lists(file_services(whos), max_size=3, unique_by=lambda service: service.id))
    return {"shares": {s.id: s for s in named}, "services": {s.id: s for s in services}}


def offer(share: str, places: list[str], whos: list[str]) -> st.SearchStrategy[Share]:
    return st.builds(
        Share,
        id=st.just(share),
        name=st.from_regex("[a-z][a-z0-9_-]{0,7}", fullmatch=True),
        place=st.sampled_from(places or ["nowhere"]),
        smb=st.sampled_from([True, True, False]),
        nfs=st.booleans(),
        guests=st.sampled_from([Level.NA, Level.NA, Level.RO, Level.RW]),
        read_only=st.integers(0, 3).map(lambda n: n == 0),
        hidden=st.booleans(),
        hide_unreadable=st.booleans(),
        versions=st.booleans(),
        recycle=st.booleans(),
        administrator=st.sampled_from([None, None, *whos]),
        grants=st.one_of(st.none(), st.none(), st.dictionaries(st.sampled_from([*whos, EVERYONE]), LEVELS, max_size=3)),
        acts_as=st.sampled_from([None, None, None, *(who for who in whos if who.startswith("u"))]),
        acts_as_group=st.sampled_from([None, None, None, *(who for who in whos if who.startswith("g"))]),
        of_host=st.integers(0, 3).map(lambda n: n == 0),
        hosts=st.lists(st.builds(HostRule, hosts=HOSTS, level=LEVELS), max_size=3).map(tuple),
        squash=st.sampled_from(get_args(Squash)),
    )


def file_services(whos: list[str]) -> st.SearchStrategy[Service]:
    on = st.sampled_from([True, True, False])
    only = st.one_of(st.none(), st.frozensets(st.sampled_from(whos), max_size=4)) if whos else st.none()
    some = [st.builds(Service, id=st.just(service), on=on, allowed=only) for service in ("smb", "pages")]
    return st.one_of(*some, st.builds(Service, id=st.just("nfs"), on=on))


def followed(draw: st.DrawFn, who: str, origin: str) -> dict[str, Any]:
    """What an account of a directory has and a local one has not."""
    if origin == LOCAL:
        return {}
    return {"origin": origin, "key": f"S-1-5-21-1-2-3-{who}", "gone": draw(st.integers(0, 4)) == 0}


@st.composite
def targets(draw: st.DrawFn, group_ids: list[str]) -> Target:
    tiers, within = draw(st.sampled_from(RULES))
    maybe_group = st.sampled_from([None, None, *group_ids])
    return Target(
        precedence=tiers,
        combining=within,
        baseline=draw(maybe_group),
        baseline_covers_directory=draw(st.booleans()),
        administrators=draw(maybe_group),
        traverse=draw(st.sampled_from(["checked", "checked", "bypassed"])),
        attributes_open=draw(st.booleans()),
        host_rules=draw(st.sampled_from(get_args(Order))),
        wildcards=draw(st.sampled_from(get_args(Wildcards))),
        nfs_traverse=draw(st.sampled_from(["checked", "bypassed"])),
        share_groups=draw(st.booleans()),
        addresses=draw(st.sampled_from([(), ("files.quay.example", "192.0.2.10", "2001:db8::7")])),
        answered=tuple(draw(st.lists(st.sampled_from(get_args(Behaviour)), unique=True))),
    )


@st.composite
def trees(draw: st.DrawFn) -> dict[str, Place]:
    found = {"p0": Place(id="p0", name="pool", kind="pool")}
    for number in range(1, draw(st.integers(1, 7))):
        parent = draw(st.sampled_from(sorted(found)))
        kind = "folder" if found[parent].kind == "folder" else draw(st.sampled_from(["dataset", "folder"]))
        found[f"p{number}"] = Place(id=f"p{number}", name=f"name-{number}", kind=kind, parent=parent)
    return found


MASKS = st.one_of(
    st.sampled_from([READ, WRITE, FULL, PASS, CHANGE]),
    st.integers(1, FULL).map(lambda mask: mask & FULL or READ),
)


@st.composite
def own_lists(draw: st.DrawFn, user_ids: list[str], group_ids: list[str]) -> OwnList:
    """A list of any style, with everything in it that counts."""
    match draw(st.sampled_from(["ordered", "ordered", "posix", "posix", "mode"])):
        case "ordered":
            whos = st.sampled_from([*user_ids, *group_ids, EVERYONE, OWNER, GROUP])
            entry = st.builds(Entry, st.sampled_from(["allow", "allow", "deny"]), whos, MASKS, st.integers(0, FLAGS))
            return Ordered(tuple(draw(st.lists(entry, max_size=6))))
        case "posix":
            return Posix(
                draw(posix_entries(user_ids, group_ids)),
                draw(st.one_of(st.none(), posix_entries(user_ids, group_ids))),
                setgid=draw(st.booleans()),
                sticky=draw(st.integers(0, 4)) == 0,
            )
        case _:
            return Mode(draw(st.one_of(st.none(), st.integers(0, MODE))))


@st.composite
def posix_entries(draw: st.DrawFn, user_ids: list[str], group_ids: list[str]) -> tuple[PosixEntry, ...]:
    keys = [("user", ""), ("group", ""), ("other", ""), ("mask", "")]
    keys += [("user", user) for user in user_ids] + [("group", group) for group in group_ids]
    chosen = draw(st.lists(st.sampled_from(keys), max_size=6, unique=True))
    return tuple(PosixEntry(tag, who, draw(st.integers(0, 7))) for tag, who in chosen)


@st.composite
def stored(draw: st.DrawFn, place: Place, user_ids: list[str], group_ids: list[str]) -> Place:
    """A place with owner, list, inheritance and carrier; a pool more often with a list than not."""
    often = 3 if place.kind == "pool" else 1
    return replace(
        place,
        owner=draw(st.sampled_from([None, None, ROOT, *user_ids])),
        group=draw(st.sampled_from([None, None, ROOT, *group_ids])),
        acl=draw(own_lists(user_ids, group_ids)) if draw(st.integers(0, 3)) < often else None,
        inheritance_stops=draw(st.integers(0, 4)) == 0,
        enforced_by=draw(st.sampled_from([None, "share", "storage", "both"])),
        **draw(for_each(place, user_ids, group_ids)),
    )


@st.composite
def for_each(draw: st.DrawFn, place: Place, user_ids: list[str], group_ids: list[str]) -> dict[str, object]:
    """Now and then: folders for each member of a group, whom such a folder is for, and quotas of groups."""
    if draw(st.integers(0, 5)) or not group_ids:
        return {}
    group = st.sampled_from(group_ids)
    managers = st.frozensets(st.sampled_from([*user_ids, *group_ids]), max_size=2)
    return {
        "personal_folders": draw(
            st.none()
            | st.builds(
                PersonalFolders,
                group=group,
                users=st.frozensets(st.sampled_from(user_ids), max_size=2) if user_ids else st.just(frozenset()),
                services=st.booleans(),
                managers=managers,
                readers=managers,
                shared=st.booleans(),
                one_share=st.booleans(),
            )
        ),
        "folder_of": draw(st.sampled_from([None, *user_ids])) if place.kind == "folder" else None,
        "group_quotas": draw(st.sampled_from([(), (GroupQuota(group=draw(group), bytes=1 << 40),)]))
        if place.kind != "folder"
        else (),
        "file_system": draw(st.sampled_from(["folder", "btrfs", "zfs"])) if place.kind == "pool" else "folder",
        "snapshots": draw(st.none() | st.builds(Snapshots, hours=st.integers(1, 48), months=st.integers(0, 12)))
        if place.kind != "folder"
        else None,
        "options": draw(st.none() | st.builds(DatasetOptions)) if place.kind != "folder" else None,
    }


@st.composite
def edits(draw: st.DrawFn, plan: Plan) -> Edit:
    """An edit that may or may not be possible in the plan."""
    users, groups, places = sorted(plan.users), sorted(plan.groups), sorted(plan.places)
    one = lambda ids, new: st.sampled_from([*ids, new])  # noqa: E731
    kind = draw(st.integers(0, 25))
    if kind == 0:
        user = draw(one(users, "u-new"))
        old = plan.users.get(user, User(id=user, name=user))
        return PutUser(
            replace(
                old, name=draw(NAMES), enabled=draw(st.booleans()), primary_group=draw(st.sampled_from([None, *groups]))
            )
        )
    if kind == 1:
        group = draw(one(groups, "g-new"))
        return PutGroup(
            Group(id=group, name=draw(NAMES), members=draw(st.frozensets(one([*users, *groups], group), max_size=3)))
        )
    if kind == 2:
        place = draw(one(places, "p-new"))
        parent = draw(st.sampled_from([None, *places]))
        if place in plan.places and draw(st.booleans()):
            return PutPlace(draw(stored(plan.places[place], users, groups)))
        kinds = st.sampled_from(["pool", "dataset", "folder"])
        return PutPlace(Place(id=place, name=draw(NAMES), kind=draw(kinds), parent=parent))
    if kind == 3:
        return RemoveUser(draw(one(users, "nobody")))
    if kind == 4:
        return RemoveGroup(draw(one(groups, "nobody")))
    if kind == 5:
        return RemovePlace(draw(one(places, "nowhere")))
    if kind == 6:
        return Join(draw(one(groups, "nobody")), draw(one([*users, *groups], "nobody")))
    if kind == 7:
        return Leave(draw(one(groups, "nobody")), draw(one([*users, *groups], "nobody")))
    if kind == 8:
        return SetTarget(draw(targets(groups)))
    if kind == 9:
        return SetTitle(draw(NAMES), draw(st.one_of(st.just(""), NAMES)), draw(st.sampled_from([None, "", "drawings"])))
    if kind == 10:
        pattern = draw(one(sorted(plan.patterns), "k-new"))
        return PutPattern(Pattern(id=pattern, name=draw(NAMES), acl=draw(own_lists(users, groups))))
    if kind == 11:
        return RemovePattern(draw(one(sorted(plan.patterns), "nothing")))
    if kind == 12:
        return PutDirectory(replace(ELSEWHERE, id=draw(st.sampled_from(["elsewhere", "d-new"])), name=draw(NAMES)))
    if kind == 13:
        return RemoveDirectory(draw(one(sorted(plan.directories), "nowhere")))
    if kind == 14:
        return PutShare(draw(offer(draw(one(sorted(plan.shares), "s-new")), places, [*users, *groups])))
    if kind == 15:
        return RemoveShare(draw(one(sorted(plan.shares), "nothing")))
    if kind == 16:
        return PutService(draw(file_services([*users, *groups])))
    if kind == 17:
        return RemoveService(draw(st.sampled_from(get_args(Protocol))))
    if kind == 18:
        return PutPromise(draw(promises(draw(one(sorted(plan.promises), "m-new")), users, groups, places)))
    if kind == 19:
        return RemovePromise(draw(one(sorted(plan.promises), "nothing")))
    if kind == 22:
        return PutNeed(draw(needs(users, groups, places)))
    if kind == 23:
        return RemoveNeed(draw(one(sorted(plan.needs), "nothing")))
    if kind == 20:
        return PutAccepted(
            Accepted(id=draw(one(sorted(plan.accepted), "kind:new")), reason="for now", until=date(2027, 2, 1))
        )
    if kind == 21:
        return RemoveAccepted(draw(one(sorted(plan.accepted), "nothing")))
    place = draw(one(places, "nowhere"))
    at = draw(st.sampled_from([None, 0, 1, 5]))
    return SetGrant(place, draw(one([*users, *groups, EVERYONE], "nobody")), draw(st.one_of(st.none(), LEVELS)), at)
