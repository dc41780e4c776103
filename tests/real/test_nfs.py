"""Shares at real NFS servers: everybody goes in from several hosts, and lists, reads, changes, adds and deletes as `walk` says."""

import json
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from ipaddress import ip_address
from pathlib import Path
from typing import Any, Literal

from tests.conftest import ON
from tests.real.host import OWN
from tests.real.kernel import PRIVATE_GID, lay_down
from tests.real.storage import by_hand, half_planned
from tests.real.test_shares import ACTS
from tests.tries import times
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.paths import CLAIMED, inside
from yardgate.core.access.storage import StorageState, storage_state
from yardgate.core.access.walk import Visit, walk
from yardgate.core.acl import Posix
from yardgate.core.acl.rights import GRANTABLE, Level
from yardgate.core.edits.apply import apply
from yardgate.core.host.probe import stands_alone
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, GUEST, Group, Plan, Target
from yardgate.core.model.share import HostRule, Over, Share, host_rule
from yardgate.formats import exports, listing

HOSTS = {"10.99.0.11": "one.quay.example", "10.99.0.12": "two.quay.example", "10.99.1.21": ""}
RULES = (
    *HOSTS, "one.quay.example", "two.quay.example", "10.99.0.0/24", "10.99.0.8/30", "10.99.0.0/16", "10.99.1.0/24",
    "*.quay.example", "t?o.quay.example", "10.99.1.*", "*",
)  # fmt: skip
Server = Literal["kernel", "ganesha"]


def set_up(seed: int, target: Target, styles: str, nested: bool) -> Plan:
    """A tree with lists or mode bits, or none planned, and a share somewhere in it, or two, with random host rules and squash."""
    rng, apart = random.Random(f"nfs-{seed}"), random.Random(f"nested-{seed}")
    plan = half_planned(by_hand(seed, styles, places=4), apart)
    groups = dict(plan.groups)
    if rng.random() < 0.2:  # more groups than a client can claim, with the lower numbers
        many = {
            f"x{n}": Group(id=f"x{n}", name=f"x{n}", gid=20500 + n, members=frozenset(plan.users)) for n in range(14)
        }
        groups |= many
    if rng.random() < 0.1:
        groups["g1"] = replace(groups["g1"], gid=0)
    top = rng.choice(list(plan.places))
    shares = {"s": offer("s", f"share {seed}", top, rng)}
    if nested and apart.random() < 0.4:
        other = apart.choice([place for place in plan.places if place != top])
        shares["t"] = offer("t", f"other {seed}", other, apart)
    grants = {top: {who: rng.choice(GRANTABLE) for who in rng.sample([*plan.users, *groups, EVERYONE], 3)}}
    users = {user.id: replace(user, enabled=rng.random() < 0.9) for user in plan.users.values()}
    made = replace(plan, users=users, groups=groups, grants=grants, target=target, shares=shares)
    assert check(made) == ()
    return made


def offer(share: str, name: str, place: str, rng: random.Random) -> Share:
    hosts = tuple(
        HostRule(hosts=name, level=rng.choice([*GRANTABLE, Level.RW, Level.RW]))
        for name in rng.sample(RULES, rng.randint(1, 4))
    )
    return Share(
        id=share,
        name=name,
        place=place,
        smb=False,
        nfs=True,
        read_only=rng.random() < 0.15,
        hosts=hosts,
        squash=rng.choice(["none", "root", "root", "all"]),
    )


def claims(plan: Plan, subject: str) -> dict[str, Any]:
    """The numbers that somebody's client sends."""
    if subject not in plan.users:
        number = exports.NOBODY if subject == GUEST else PRIVATE_GID
        return {"uid": number, "gid": number, "gids": []}
    user = plan.users[subject]
    primary = user.primary_group
    numbers = sorted(plan.groups[who].gid or 0 for who in token(plan, subject) if who in plan.groups and who != primary)
    gid = plan.groups[primary].gid if primary is not None else PRIVATE_GID
    return {"uid": user.uid, "gid": gid, "gids": numbers[:CLAIMED]}


Found = tuple[list[tuple[dict[str, Any], Any]], dict[int, str]]


def ask(server: Server, plans: dict[int, Plan], lists: bool = False) -> Found:
    """Each client at the server: what was asked, and what it found. lists: also what the server says of the lists of each plan's folders."""
    top = Path(tempfile.mkdtemp(prefix="yardgate-nfs-", dir="/tmp"))
    top.chmod(0o755)
    (top / "tree").mkdir(mode=0o755)
    asks, lines, folders_of = [], [], dict[int, list[Path]]()
    try:
        for seed, plan in plans.items():
            rng = random.Random(f"nfs-hosts-{seed}")
            subjects = [*plan.users, GUEST, "stranger"]
            mine = [
                {"seed": seed, "subject": s, "me": s, "version": rng.choice((3, 4)), "address": rng.choice(list(HOSTS))}
                for s in subjects
            ]
            storage = storage_state(plan, count(plan, ON))
            base = top / "tree" / str(seed)
            base.mkdir(mode=0o755)
            where = lay_down(plan, storage, base, [str(one["me"]) for one in mine])
            folders_of[seed] = list(where.values()) if lists else []
            for one in mine:
                one["share"] = rng.choice(list(plan.shares))
                share = plan.shares[one["share"]]
                offered = where[share.place]
                subject = GUEST if one["subject"] == "stranger" else str(one["subject"])
                visits = visited(as_served(plan, server, one["version"]), subject, one, storage)
                folders = [
                    "/" + str(where[v.place].relative_to(offered)) if v.place != share.place else "" for v in visits
                ]
                asks.append({**one, **claims(plan, str(one["subject"])), "folders": folders, "visits": visits})
                asks[-1]["export"] = f"/{seed}" if server == "ganesha" else f"/{offered.relative_to(top / 'tree')}"
            if server == "kernel":
                lines.append(
                    exports.write(plan, lambda place, where=where: f"/{where[place].relative_to(top / 'tree')}")
                )  # type: ignore[misc]
            else:
                lines.append(ganesha(plan, seed, where[plan.shares["s"].place]))
        task = {
            "server": server,
            "top": str(top),
            "hosts": HOSTS,
            "exports": (GANESHA if server == "ganesha" else "") + "".join(lines),
            "lists": [f"/{folder.relative_to(top / 'tree')}" for some in folders_of.values() for folder in some],
            "asks": [{name: value for name, value in one.items() if name != "visits"} for one in asks],
        }
        child = Path(__file__).with_name("nfs_child.py")
        done = subprocess.run(
            [*OWN, sys.executable, "-I", child],
            input=json.dumps(task),
            capture_output=True,
            text=True,
            start_new_session=True,
        )
        assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-3000:]
        told = json.loads(done.stdout)
        texts = {
            seed: "".join(
                f"# file: {path}\n" + "".join(f"{line}\n" for line in told["lists"][f"/{path}"]) + "\n"
                for path in (folder.relative_to(top / "tree") for folder in some)
            )
            for seed, some in folders_of.items()
        }
        answers = ({**one, "answers": said} for one, said in zip(asks, told["answers"], strict=True))
        return list(zip(answers, told["found"], strict=True)), texts
    finally:
        shutil.rmtree(top)


def as_served(plan: Plan, server: Server, version: Any) -> Plan:
    """Clients of version 4 pass through the folders above a share of the kernel's server."""
    asked: Literal["checked", "bypassed"] = "checked" if server == "kernel" and version == 4 else "bypassed"
    return replace(plan, target=replace(plan.target, nfs_traverse=asked))


def visited(plan: Plan, subject: str, one: dict[str, Any], storage: StorageState) -> tuple[Visit, ...]:
    """The visit to one share. Where a share lies in another, both in one file system, a host that the outer one speaks of comes to the inner one by the
    outer one: always with version 4, which goes down from the top; with version 3, where the inner one does not speak of it. With version 4, a host
    that only the inner one speaks of is shown the folders on the way there and nothing in them."""
    share, host = plan.shares[one["share"]], (ip_address(one["address"]), HOSTS[one["address"]], plan.target.wildcards)
    speaking = [s for s in plan.shares.values() if host_rule(s.hosts, plan.target.host_rules, *host) is not None]

    def around(place: str) -> list[Share]:
        """The shares that speak of the host and hold a place, the outermost first."""
        return [other for above in plan.path(place) for other in speaking if other.place == above]

    if one["version"] == 3:
        over = next(reversed(around(share.place)), share)
        plan = replace(plan, shares={share.id: replace(over, id=share.id, place=share.place)})
        return walk(plan, subject, way(share, one), ON, storage)
    found = []
    visits = {s.id: {v.place: v for v in walk(plan, subject, way(s, one), ON, storage)} for s in plan.shares.values()}
    for place in inside(plan, share):
        over = next(iter(around(place)), share)
        visit = visits[over.id][place]
        if place == share.place and over is not share:
            visit = replace(visit, shown=visits[over.id][plan.places[place].parent or ""].enters)
        passed = over not in speaking and any(place in plan.path(other.place) for other in speaking)
        found.append(replace(visit, shown=True) if passed else visit)
    return tuple(found)


def way(share: Share, one: dict[str, Any]) -> Over:
    return Over(share.id, "nfs", ip_address(one["address"]), HOSTS[one["address"]])


GANESHA = """NFS_CORE_PARAM { NFS_Port = 2049; MNT_Port = 20048; Protocols = 3,4; Enable_NLM = false; Enable_RQUOTA = false;
  Enable_UDP = false; mount_path_pseudo = true; }
NFSv4 { Graceless = true; RecoveryRoot = /run/ganesha; Only_Numeric_Owners = true; }
NFS_KRB5 { Active_krb5 = false; }
LOG { COMPONENTS { TIRPC = WARN; } }
EXPORT_DEFAULTS { SecType = sys; Attr_Expiration_Time = 0; Anonymous_uid = 65534; Anonymous_gid = 65534; }
"""


def ganesha(plan: Plan, seed: int, path: Path) -> str:
    share = plan.shares["s"]
    squash = {"none": "no_root_squash", "root": "root_id_squash", "all": "all_squash"}[
        share.squash
    ]  # of root alone, not of its groups
    level = {Level.NA: "None", Level.RO: "RO", Level.RW: "RO" if share.read_only else "RW"}
    rules = " ".join(
        f"CLIENT {{ Clients = {rule.hosts}; Access_Type = {level[rule.level]}; Squash = {squash}; }}"
        for rule in share.hosts
    )
    return f'EXPORT {{ Export_Id = {seed + 1}; Path = "{path}"; Pseudo = /{seed}; Access_Type = None; FSAL {{ Name = VFS; }} {rules} }}\n'


def compare(server: Server, seeds: range, target: Target, styles: str) -> None:
    plans = {seed: set_up(seed, target, styles, nested=server == "kernel") for seed in seeds}
    wrong, asked, found = [], 0, Counter[str]()
    for one, real in ask(server, plans)[0]:
        visits: tuple[Visit, ...] = one["visits"]
        asked += 1
        let_in, plan = visits[0].shown, plans[one["seed"]]
        found["let in"] += real is not None
        if one["version"] == 4 and server == "kernel" and stands_alone(plan, plan.shares[one["share"]]):
            wrong += differently_asked(one, visits, found)
        about = (one["seed"], one["share"], one["subject"], one["version"], one["address"])
        pointless = (
            server == "ganesha" and one["version"] == 4 and not visits[0].enters
        )  # it may answer NFS4ERR_MOVED there
        if (real is not None) != let_in and not (pointless and let_in):
            wrong.append((*about, "mounts", real is not None))
        listing = {visit.place: set(names["names"]) for visit, names in zip(visits, real or (), strict=False)}
        for visit, folder in zip(visits, real or (), strict=False):
            asked += len(ACTS)
            if (parent := plan.places[visit.place].parent) in listing:
                asked += 1
                if (shown := plan.places[visit.place].name in listing[parent]) != visit.shown:
                    wrong.append((*about, visit.place, "shown", shown))
            found.update(act for act in ACTS if folder[act])
            if (
                one["version"] == 4 and not visit.enters
            ):  # the client library asks for attributes of all names, or for nothing
                visit = replace(visit, lists=False)
                listing.pop(visit.place, None)
            wrong += [(*about, visit.place, act, folder[act]) for act in ACTS if folder[act] != getattr(visit, act)]
    print(f"{server}: {len(plans)} share set-ups, {asked} answers, {dict(found)}, {len(wrong)} differ")
    print(Counter((line[3], *line[-2:]) for line in wrong).most_common())
    for line in wrong[:40]:
        share = plans[line[0]].shares[line[1]]
        print(line, share.squash, [(rule.hosts, rule.level.name) for rule in share.hosts])
    assert wrong == []
    assert min(found.values()) > asked / 150  # or too little was let through to say anything


def differently_asked(one: dict[str, Any], visits: Sequence[Visit], counted: Counter[str]) -> list[Any]:
    """What a rollout asks the server of the same folders, where that is not as the walk says."""
    about, said = (one["seed"], one["share"], one["subject"], one["version"], one["address"]), one["answers"]
    if said is None or not visits[0].shown:
        return [(*about, "asked", said is not None)] if (said is not None) != visits[0].shown else []
    wrong = []
    for visit, (lists, adds) in zip(visits, said, strict=True):
        counted["asked: lists"] += lists
        counted["asked: adds"] += adds
        wrong += [(*about, visit.place, "asked: lists", lists)] if lists != visit.looks else []
        wrong += [(*about, visit.place, "asked: adds", adds)] if adds != visit.adds else []
    return wrong


def test_hundred_shares_at_the_kernels_server() -> None:
    compare("kernel", range(100), Target(wildcards="names"), "kernel")


def test_shares_at_a_server_that_goes_by_the_first_rule_and_shows_nothing_above_a_share() -> None:
    """nfs-ganesha: mode bits only, since it asks nothing of POSIX lists."""
    compare("ganesha", range(60), Target(host_rules="first"), "mode")


def test_listings_of_the_kernels_server_say_who_gets_what() -> None:
    """Its lists as clients of version 4 see them, taken in: everybody gets what a plan of them says, or a note says more or less.

    Without masks that let nothing through: of such a list Linux asks nothing, which it does not say."""
    plans = {}
    for seed in range(200, 200 + times(40, 120)):
        plan = by_hand(seed, "kernel", places=5)
        listed = [place.acl for place in plan.places.values() if isinstance(place.acl, Posix)]
        masks = [entry.perms for one in listed for entry in one.access if entry.tag == "mask"]
        masks += [entry.perms & 0o6 for one in listed for entry in one.default or () if entry.tag == "mask"]
        if 0 in masks:
            continue
        pool = next(place.id for place in plan.places.values() if place.parent is None)
        share = Share(id="s", name=f"share {seed}", place=pool, smb=False, nfs=True, hosts=(HostRule(hosts="*", level=Level.RW),), squash="none")  # fmt: skip
        plans[seed] = replace(plan, shares={"s": share})
    asked, texts = ask("kernel", plans, lists=True)
    taken, notes = {}, {}
    for seed, text in texts.items():
        plan = plans[seed]
        bare = {
            place.id: replace(place, owner=stored.owner, group=stored.group, acl=None, inheritance_stops=False)
            for place in plan.places.values()
            for stored in [storage_state(plan, count(plan, ON))[place.id]]
        }
        pool = plan.shares["s"].place
        found = listing.read(replace(plan, places=bare), text, "ordered", pool, only_folders=True)
        taken[seed], _ = apply(replace(plan, places=bare), found.edits)
        notes[seed] = found.notes
        assert not found.unknown, found.unknown
    wrong, count_of = [], Counter[str]()
    for one, real in asked:
        plan = taken[one["seed"]]
        storage = storage_state(plan, count(plan, ON))
        subject = GUEST if one["subject"] == "stranger" else one["subject"]
        visits = visited(as_served(plan, "kernel", one["version"]), subject, one, storage)
        for visit, there in zip(visits, real or (), strict=False):
            if one["version"] == 4 and not visit.enters:
                continue  # what the client library does not even ask
            for act in ACTS:
                count_of["answers"] += 1
                count_of[act] += there[act]
                if there[act] != getattr(visit, act):
                    wrong.append((one["seed"], one["subject"], visit.place, act, there[act]))
    print(dict(count_of), len(wrong), "differ")
    unsaid = [
        line
        for line in wrong
        if not any(
            line[2] in note.about and note.toward in ("more" if line[-1] else "less", "either")
            for note in notes[line[0]]
        )
    ]
    for line in unsaid[:30]:
        print(line)
    assert unsaid == []
    assert sum(not line[-1] for line in wrong) < count_of["answers"] / 100  # sticky folders, and several groups
