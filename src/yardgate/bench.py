"""How fast and how large: the resolver against the readable reference and against a plain copy of its result, in one run."""

import itertools
import random
import resource
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from yardgate.core.clash import RULES
from yardgate.core.edit import SetGrant, apply
from yardgate.core.plan import Group, Place, Plan, Target, User
from yardgate.core.reason import explain, ground
from yardgate.core.resolve import resolve
from yardgate.core.rights import GRANTABLE, Level

ROUNDS = 9
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
        granted[place.id] = {who: rng.choice(GRANTABLE) for who in whos}
    return Plan(
        name="bench",
        target=Target(baseline="g0"),
        users={u: User(id=u, name=f"user-{u}", enabled=rng.random() > 0.02) for u in user_ids},
        groups={g: Group(id=g, name=f"group-{g}", members=frozenset(m)) for g, m in members.items()},
        places={place.id: place for place in kinds},
        grants=granted,
    )


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
    stands = ground(plan, on)
    one_by_one = _median(lambda: [explain(plan, user, place, on, stands) for user, place in cells], rounds=3) / SAMPLE
    wrong = sum(explain(plan, user, place, on, stands).level != matrix.level(user, place) for user, place in cells)
    edit = SetGrant("p0", "g1", Level.NA if plan.grants["p0"].get("g1") != Level.NA else Level.RW)
    after, _ = apply(plan, [edit])
    again = _median(lambda: resolve(after, on, matrix), rounds=99)
    every = []
    for tiers, within in RULES:
        other = replace(plan, target=replace(plan.target, tiers=tiers, within=within))
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
