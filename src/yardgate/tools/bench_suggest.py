"""`yardgate bench --suggest`: groups from needs, beside what one would do by hand, and how long it takes."""

import statistics
import time
from itertools import combinations

import numpy as np

from yardgate.core.access.batch.resolve import Codes
from yardgate.core.suggest.cover import CHANGE, READ, USUAL, PlaceGrant, Table, Taken
from yardgate.core.suggest.solve import solve
from yardgate.tools.bench import Result

SIZES = ((30, 20, 7, 5, 20.0), (120, 60, 10, 5, 30.0), (2_000, 300, 60, 1, 60.0))
"""People, places, groups that made the needs, how many tables, and seconds for each."""
ALONE = {30: 0.03, 120: 0.02, 2_000: 0.002}
"""The part of the cells that somebody needs for themselves alone."""
PAIRS = 3_000


def planted(people: int, places: int, groups: int, alone: float, seed: int) -> tuple[Codes, int]:
    """Needs of some groups, and of single people beside them; and what just these groups and exceptions cost."""
    draw, price = np.random.default_rng(seed), 0
    need: Codes = np.zeros((people, places), np.uint8)
    for _ in range(groups):
        who = np.flatnonzero(draw.random(people) < draw.uniform(1.5, 5) / groups)
        what = np.flatnonzero(draw.random(places) < draw.uniform(1, 4) / groups)
        for place in what:
            need[who, place] = np.maximum(need[who, place], draw.choice([READ, CHANGE]))
        price += USUAL.group + USUAL.membership * len(who) + USUAL.grant * len(what)
    single = (draw.random(need.shape) < alone) & (need == 0)
    need[single] = draw.choice([READ, CHANGE], int(single.sum()))
    return need, price + USUAL.personal * int(single.sum())


def by_place(need: Codes) -> tuple[Taken, ...]:
    """One group for each place and level."""
    return tuple(
        Taken(tuple(np.flatnonzero(column == level).tolist()), (PlaceGrant(place, level),))
        for place, column in enumerate(need.T)
        for level in (READ, CHANGE)
        if (column == level).any()
    )


def by_row(need: Codes) -> tuple[Taken, ...]:
    """One group for all who need just the same."""
    alike: dict[bytes, list[int]] = {}
    for person, row in enumerate(need):
        if row.any():
            alike.setdefault(row.tobytes(), []).append(person)
    return tuple(
        Taken(
            tuple(some),
            tuple(PlaceGrant(int(place), int(need[some[0], place])) for place in np.flatnonzero(need[some[0]])),
        )
        for some in alike.values()
    )


def by_common_sets(need: Codes, seed: int) -> tuple[Taken, ...]:
    """What two people need both, the set first that covers the most, until all is covered."""
    draw = np.random.default_rng(seed)
    pairs = list(combinations(range(len(need)), 2))
    if len(pairs) > PAIRS:
        pairs = [pairs[number] for number in draw.choice(len(pairs), PAIRS, replace=False)]
    shared = [np.where(need[one] == need[other], need[one], 0) for one, other in pairs]
    sets = {row.tobytes(): row for row in (*shared, *need) if row.any()}
    wholes = [(row, np.flatnonzero(((need == row) | (row == 0)).all(1))) for row in sets.values()]
    still, taken = need > 0, []
    while still.any():
        row, who = max(wholes, key=lambda whole: int(still[np.ix_(whole[1], np.flatnonzero(whole[0]))].sum()))
        still[np.ix_(who, np.flatnonzero(row))] = False
        grants = tuple(PlaceGrant(int(place), int(row[place])) for place in np.flatnonzero(row))
        taken.append(Taken(tuple(who.tolist()), grants))
    return tuple(taken)


def run() -> list[Result]:
    """Each size: the cost beside the others', how near to the best, and the time."""
    results = []
    for people, places, groups, tables, seconds in SIZES:
        took, gaps, ratios = [], [], dict[str, list[float]]()
        for seed in range(tables):
            need, price = planted(people, places, groups, ALONE[people], seed)
            table = Table.of(need)
            start = time.perf_counter()
            answer = solve(table, seconds)
            took.append(time.perf_counter() - start)
            gaps.append(answer.gap)
            if not table.gives(answer.groups, answer.personal):
                raise AssertionError("somebody does not get what they need")
            others = {
                "the groups that made them": price,
                "a group a place and level": table.cost(by_place(need), ()),
                "a group for each who needs the same": table.cost(by_row(need), ()),
            }
            if people <= 120:
                others["common sets, the largest first"] = table.cost(by_common_sets(need, seed), ())
            for what, cost in others.items():
                ratios.setdefault(what, []).append(cost / answer.cost)
        size = f"{people:,} × {places:,} needs"
        results.append(
            Result(
                f"{size}: {tables} tables",
                f"{statistics.median(took):.1f} s (worst {max(took):.1f})",
                f"under {seconds:.0f} s",
            )
        )
        results.append(Result("  within", f"{max(gaps):.2%} of the best of what was looked at", ""))
        results += [
            Result(f"  {what}: cost / ours", f"{statistics.median(some):.2f} ×", "") for what, some in ratios.items()
        ]
    return results
