"""How fast and how large: the resolver against the readable reference and against a plain copy of its result, in one run."""

import contextlib
import itertools
import os
import random
import resource
import statistics
import struct
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any, get_args

import numpy as np

from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.combining import RULES
from yardgate.core.access.outcome import outcome
from yardgate.core.access.spec.explain import explain
from yardgate.core.access.storage import Nfs4State
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry, rights
from yardgate.core.acl.nfs4 import EVERYTHING_BELOW
from yardgate.core.acl.rights import GRANTABLE, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import PutPlace, PutUser, SetGrant
from yardgate.core.edits.transforms import begun
from yardgate.core.host.compiled import compiled
from yardgate.core.host.contents import Thing, pushes
from yardgate.core.host.state import Folder, System
from yardgate.core.host.steps import steps
from yardgate.core.model.agreements import Act, Promise
from yardgate.core.model.plan import EVERYONE, Group, Place, PlaceKind, Plan, Target, User
from yardgate.core.model.share import HostRule, Share
from yardgate.core.policy.compliance import keep
from yardgate.core.policy.findings import Case, find
from yardgate.core.policy.remedies import Want, remedies
from yardgate.drivers.linux.apply import here
from yardgate.drivers.linux.contents import give, inside

ROUNDS = 9
WANTED = 40  # cells whose remedies are measured
SAMPLE = 2000
NESTED = 4


@dataclass(frozen=True, slots=True)
class Result:
    what: str
    measured: str
    aim: str


def random_plan(users: int, groups: int, places: int, seed: int, grants: int = 20) -> Plan:
    """A plan of a large office: groups nested up to four deep, a few groups a person, grants mostly to groups."""
    rng = random.Random(seed)
    user_ids = [f"u{i}" for i in range(users)]
    layers = [[f"g{i}" for i in range(groups) if i % NESTED == layer] for layer in range(NESTED)]
    members: dict[str, set[str]] = {group: set() for layer in layers for group in layer}
    for user in user_ids:
        for group in rng.sample(sorted(members), min(4, groups)):
            members[group].add(user)
    for outer, inner in itertools.pairwise(layers):
        for group in inner:
            members[rng.choice(outer)].add(group)
    kinds = [Place(id="pool", name="pool", kind="pool")]
    kinds += [Place(id=f"p{i}", name=f"place-{i}", kind="dataset", parent="pool") for i in range(places - 1)]
    granted: dict[str, dict[str, Level]] = {}
    for place in kinds:
        own = rng.sample(user_ids, min(grants // 4, users))
        whos = own + rng.sample(sorted(members), min(grants - len(own), groups))
        rng.shuffle(whos)
        if whos:
            granted[place.id] = {who: rng.choice(GRANTABLE) for who in whos}
    return Plan(
        name="bench",
        target=Target(baseline="g0"),
        users={u: User(id=u, name=f"user-{u}", enabled=rng.random() > 0.02) for u in user_ids},
        groups={g: Group(id=g, name=f"group-{g}", members=frozenset(m)) for g, m in members.items()},
        places={place.id: place for place in kinds},
        grants=granted,
    )


def random_lists(users: int, groups: int, places: int, seed: int, lines: int = 12) -> Plan:
    """The same office with ordered lists by hand: a tree four levels deep, `lines` entries of its own on every place, one in
    three with everything that comes down besides, mostly for groups, one in six a refusal."""
    rng = random.Random(seed)
    plan = random_plan(users, groups, places, seed, grants=0)
    names, user_ids = sorted(plan.groups), list(plan.users)
    tree: dict[str, Place] = {}
    levels: list[list[str]] = [["pool"], [], [], []]
    for number, place in enumerate(plan.places):
        depth = 0 if number == 0 else 1 + min(2, number * 3 // places)
        parent = rng.choice(levels[depth - 1]) if depth else None
        kind: PlaceKind = "folder" if depth else "pool"
        if depth:
            levels[depth].append(place)
        who = [rng.choice(user_ids) for _ in range(lines // 4)]
        who += rng.sample(names, min(lines - len(who), groups))
        rng.shuffle(who)
        entries = tuple(
            Entry(
                "deny" if rng.random() < 1 / 6 else "allow",
                one,
                rng.choice((rights.READ, rights.WRITE, rights.FULL, rights.PASS)),
                rng.choice((0, EVERYTHING_BELOW, EVERYTHING_BELOW)),
            )
            for one in who
        )
        opening = (Entry("allow", EVERYONE, rights.PASS, 0),)  # or few would get any deeper
        tree[place] = Place(
            id=place,
            name=place,
            kind=kind,
            parent=parent,
            acl=Ordered(entries + opening),
            inheritance_stops=rng.random() < 2 / 3,
            enforced_by="storage",
        )
    return replace(plan, places=tree, grants={})


NO_ID = 2**32 - 1
NOBODY = 65534


def _ask_kernel(sample: int) -> float:
    """Seconds for one cell asked of the kernel: the access(2) questions that tell its level, to a folder and a file in it with
    lists of twelve entries, four folders deep. As root it would not look at lists, so root asks as nobody."""
    entries = [(0x01, 7, NO_ID), *((0x02, 5, NOBODY - n) for n in range(3, -1, -1)), (0x04, 4, NO_ID)]
    entries += [*((0x08, 4, 50000 + n) for n in range(4)), (0x10, 7, NO_ID), (0x20, 0, NO_ID)]
    packed = struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *entry) for entry in entries)
    with tempfile.TemporaryDirectory(prefix="yardgate-bench-", dir="/tmp") as top:
        os.chmod(top, 0o755)
        cells = []
        for number in range(100):
            folder = Path(top, "a", "b", str(number))
            folder.mkdir(parents=True)
            (folder / "file").touch()
            cells.append((str(folder), str(folder / "file")))
            for path in (folder, folder / "file"):
                with contextlib.suppress(OSError):  # a file system without lists answers, too
                    os.setxattr(path, "system.posix_acl_access", packed)
        questions = list(itertools.islice(itertools.cycle(cells), sample))
        return _as_nobody(lambda: _median(lambda: [_level_by_kernel(*cell) for cell in questions]) / sample)


def _level_by_kernel(folder: str, file: str) -> Level:
    if not os.access(folder, os.X_OK):
        return Level.NA
    if not (os.access(folder, os.R_OK) and os.access(file, os.R_OK)):
        return Level.PT
    return Level.RW if os.access(folder, os.W_OK | os.X_OK) and os.access(file, os.R_OK | os.W_OK) else Level.RO


def _as_nobody(work: Callable[[], float]) -> float:
    """What `work` gives in a child that is nobody, where this is root."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        if os.geteuid() == 0:
            os.setgroups([])
            os.setresgid(NOBODY, NOBODY, NOBODY)
            os.setresuid(NOBODY, NOBODY, NOBODY)
        os.write(writing, struct.pack("d", work()))
        os._exit(0)
    os.close(writing)
    found: float = struct.unpack("d", os.read(reading, 8))[0]
    os.close(reading)
    os.waitpid(child, 0)
    return found


def run_lists(users: int, groups: int, places: int, seed: int) -> list[Result]:
    """Lists instead of grants: the whole board, against the kernel asked cell by cell, a plain copy, and one list's edit."""
    on = date(2027, 1, 1)
    plan = random_lists(users, groups, places, seed)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    matrix = resolve(plan, on)
    copied = np.array([matrix.rows[place][:users] for place in plan.places])
    floor = _median(lambda: copied.copy())
    whole = _median(lambda: resolve(plan, on))
    kernel = _ask_kernel(SAMPLE * 10)
    rng = random.Random(seed)
    cells = [(rng.choice(list(plan.users)), rng.choice(list(plan.places))) for _ in range(SAMPLE)]
    wrong = sum(
        explain(plan, user, place, on, matrix.storage).level != matrix.level(user, place) for user, place in cells
    )
    deepest = plan.places[list(plan.places)[-1]]
    assert isinstance(deepest.acl, Ordered)
    edit = PutPlace(replace(deepest, acl=Ordered(deepest.acl.entries[1:])))
    after, _ = apply(plan, [edit])
    again = _median(lambda: resolve(after, on, matrix), rounds=49)
    effective = [len(stored.list.lines) for stored in matrix.storage.values() if isinstance(stored.list, Nfs4State)]
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return [
        Result(
            f"lists: {users:,} users × {places:,} places, 13 lines of their own ({statistics.mean(effective):.0f} with those that come down), 4 levels",
            f"{whole * 1000:.1f} ms",
            "",
        ),
        Result(
            "asking the kernel cell by cell / resolve", f"{kernel * users * places / whole:,.0f} ×", "at least 100 ×"
        ),
        Result(f"same levels on a sample of {SAMPLE:,} cells", f"{wrong} differ", "0 differ"),
        Result("resolve / plain copy of the result", f"{whole / floor:.1f} ×", "under 30 ×"),
        Result(
            "one list's edit resolved again / whole", f"1/{whole / again:.0f} ({again * 1000:.2f} ms)", "at most 1/30"
        ),
        Result("peak memory", f"{memory:.0f} MiB (before lists {before / 1024:.0f})", "at most 700 MiB"),
    ]


def run_agreed(users: int, groups: int, places: int, seed: int, promises: int = 1000) -> list[Result]:
    """Promises looked at again after an edit, findings, and remedies, on a plan with lists and shares."""
    on = date(2027, 1, 1)
    rng = random.Random(seed)
    plan = random_lists(users, groups, places, seed)
    whos = [*plan.users, *plan.groups]
    plan = replace(plan, shares=_shares(plan, rng))
    made = {}
    for number in range(promises):
        act: Act = rng.choice(get_args(Act))
        where, who = rng.choice(sorted(plan.places)), rng.choice(whos)
        made[f"m{number}"] = Promise(id=f"m{number}", who=who, must=rng.random() < 0.5, act=act, place=where)
    plan = replace(plan, promises=made)
    now = keep(outcome(resolve(plan, on)))
    again: list[float] = []
    for _ in range(ROUNDS):
        edit = SetGrant(rng.choice(sorted(plan.places)), rng.choice(whos), Level.RO)
        then = outcome(resolve(apply(plan, [edit])[0], on, now.outcome.matrix), now.outcome)
        again.append(_median(lambda then=then: keep(then, now), rounds=3))  # type: ignore[misc]
    anew = _median(lambda: keep(now.outcome))
    found = _median(lambda: find(Case(now.outcome)), rounds=3)
    took: list[float] = []
    while len(took) < WANTED:
        level = rng.choice(GRANTABLE)
        want = Want(rng.choice(sorted(plan.users)), rng.choice(sorted(plan.places)), level, level)
        if not want.met(now.outcome.level(want.subject, want.place)):
            start = time.perf_counter()
            remedies(now, want)
            took.append(time.perf_counter() - start)
    size = f"{users:,} users × {places:,} places"
    return [
        Result(
            f"{size}: {promises:,} promises after one grant's edit",
            f"{statistics.median(again) * 1000:.0f} ms (worst {max(again) * 1000:.0f}, all anew {anew * 1000:.0f})",
            "at most 100 ms",
        ),
        Result("findings", f"{found * 1000:.0f} ms", ""),
        run_findings(users, groups, places, seed),
        Result(
            f"remedies of {len(took)} cells",
            f"{statistics.median(took) * 1000:.0f} ms (worst {max(took) * 1000:.0f})",
            "under 1,000 ms",
        ),
    ]


def run_findings(users: int, groups: int, places: int, seed: int) -> Result:
    """All findings of a board with grants on every place, each of which has a list begun for Windows clients, and shares."""
    plan, rng = random_plan(users, groups, places, seed), random.Random(seed)
    for place in sorted(plan.places, key=lambda place: len(plan.path(place))):
        plan = apply(plan, [PutPlace(begun(plan, plan.places[place], "ordered"))])[0]
    plan = replace(plan, shares=_shares(plan, rng))
    now = outcome(resolve(plan, date(2027, 1, 1)))
    took = _median(lambda: find(Case(now)), rounds=3)
    said = f"{took * 1000:.0f} ms ({len(find(Case(now))):,} findings)"
    return Result("findings where every place has grants and a list", said, "under 300 ms")


def _shares(plan: Plan, rng: random.Random) -> dict[str, Share]:
    """Forty shares, each fifth of them over NFS too."""
    rules = (HostRule(hosts="192.0.2.0/24", level=Level.RW),)
    shared = rng.sample(sorted(plan.places), min(40, len(plan.places)))
    return {
        f"s{n}": Share(id=f"s{n}", name=f"s{n}", place=place, nfs=n % 5 == 0, hosts=rules)
        for n, place in enumerate(shared)
    }


def run_rollout(users: int, groups: int, places: int, seed: int) -> list[Result]:
    """What a plan comes to on an appliance, and the steps there: from nothing, and after one change."""
    plan = random_lists(users, groups, places, seed)
    plan = replace(plan, groups={g.id: replace(g, gid=50_000 + n) for n, g in enumerate(plan.groups.values())})
    on = date(2027, 1, 1)
    matrix = resolve(plan, on)
    start = time.perf_counter()
    system = compiled(matrix, "/srv").system
    made = time.perf_counter() - start
    start = time.perf_counter()
    first = steps(System(), system)
    began = time.perf_counter() - start
    one = next(iter(plan.users.values()))
    other, _ = apply(plan, [PutUser(replace(one, enabled=False))])
    start = time.perf_counter()
    then = steps(system, compiled(resolve(other, on, matrix), "/srv").system)
    again = time.perf_counter() - start
    return [
        Result(f"{users:,} users × {places:,} places: what it comes to on an appliance", f"{made:.2f} s", ""),
        Result(f"all {len(first):,} steps there", f"{began:.2f} s", "with the line above under 5 s"),
        Result(f"an account is shut: resolved, and the difference, {len(then):,} step", f"{again:.2f} s", "under 5 s"),
    ]


def run_pushes(files: int) -> list[Result]:
    """A list pushed down over files of this machine, a hundred in a folder; looked into first, and after. Needs root and setfacl(1)."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as top:
        for number in range(0, files, 100):
            folder = Path(top, f"{number // 5000}", f"{number}")
            folder.mkdir(parents=True)
            for name in range(number, min(files, number + 100)):
                (folder / f"{name}.txt").touch()
        entries = (("user", "", 7), ("group", "", 7), ("group", "daemon", 7), ("mask", "", 7), ("other", "", 0))
        listed = tuple(PosixEntry(tag, who, perms) for tag, who, perms in entries)  # type: ignore[arg-type]
        planned = Folder(name=os.path.realpath(top), group="daemon", listed=Posix(listed, listed, setgid=True))

        def looked() -> tuple[float, list[Thing]]:
            start = time.perf_counter()
            found = [push.then for _, some in inside(here, planned.name) for push in pushes(planned, some)]
            return time.perf_counter() - start, found

        first, found = looked()
        start = time.perf_counter()
        give(here, found)
        given = time.perf_counter() - start
        again, left = looked()
    return [
        Result(f"{len(found):,} things of a folder looked at", f"{first:.1f} s", ""),
        Result("a list pushed down over them", f"{given:.1f} s", ""),
        Result(f"looked at again: {len(left):,} otherwise", f"{again:.1f} s", "0 otherwise"),
    ]


def _median(work: Callable[[], Any], rounds: int = ROUNDS) -> float:
    """Seconds, the median of some rounds after one to warm up."""
    work()
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def run(users: int, groups: int, places: int, seed: int) -> list[Result]:
    on = date(2027, 1, 1)
    plan = random_plan(users, groups, places, seed)
    matrix = resolve(plan, on)
    copied = np.array([matrix.rows[place][:users] for place in plan.places])
    floor = _median(lambda: copied.copy())
    whole = _median(lambda: resolve(plan, on))
    rng = random.Random(seed)
    cells = [(rng.choice(list(plan.users)), rng.choice(list(plan.places))) for _ in range(SAMPLE)]
    one_by_one = (
        _median(lambda: [explain(plan, user, place, on, matrix.storage) for user, place in cells], rounds=3) / SAMPLE
    )
    wrong = sum(
        explain(plan, user, place, on, matrix.storage).level != matrix.level(user, place) for user, place in cells
    )
    edit = SetGrant("p0", "g1", Level.NA if plan.grants["p0"].get("g1") != Level.NA else Level.RW)
    after, _ = apply(plan, [edit])
    again = _median(lambda: resolve(after, on, matrix), rounds=99)
    every = []
    for tiers, within in RULES:
        other = replace(plan, target=replace(plan.target, precedence=tiers, combining=within))
        every.append(_median(lambda other=other: resolve(other, on), rounds=3) / floor)  # type: ignore[misc]
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    per_cell = whole / (users * places)
    return [
        Result(
            f"{users:,} users × {places:,} places, {groups} groups, seed {seed}: whole", f"{whole * 1000:.1f} ms", ""
        ),
        Result("reason / resolve, per cell", f"{one_by_one / per_cell:,.0f} ×", "at least 500 ×"),
        Result(f"same levels on a sample of {SAMPLE:,} cells", f"{wrong} differ", "0 differ"),
        Result("resolve / plain copy of the result", f"{whole / floor:.1f} ×", "under 20 ×"),
        Result("the same under each of the eight rules", " ".join(f"{ratio:.0f}" for ratio in every), ""),
        Result(
            "one cell's edit resolved again / whole", f"1/{whole / again:.0f} ({again * 1000:.2f} ms)", "at most 1/50"
        ),
        Result("peak memory", f"{memory:.0f} MiB", "at most 500 MiB"),
    ]
