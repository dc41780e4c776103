"""Ordered lists against the SMB server's own access check, bit by bit."""

from collections.abc import Callable

import pytest

from tests.real.samba import compare, server
from tests.real.storage import by_hand, granted
from yardgate.core.model.plan import Plan

IN_EVERY_RUN = 25_000


def many(make: Callable[[int], Plan], first: int, wanted: int) -> tuple[int, int]:
    """Plans from seed `first` on until enough descriptors were checked: (checks, plans). Fails on the first that differs."""
    done = seed = 0
    with server() as helper:
        while done < wanted:
            asked, wrong = compare(make(first + seed), helper)
            assert wrong == [], f"seed {first + seed}: {len(wrong)} of {asked} differ, the first {wrong[:5]}"
            done, seed = done + asked, seed + 1
    return done, seed


@pytest.mark.parametrize("make", [by_hand, granted])
def test_ordered_lists_are_what_the_server_makes_of_them(make: Callable[[int, str], Plan]) -> None:
    done, plans = many(lambda seed: make(seed, "ordered"), 0, IN_EVERY_RUN)
    print(f"{done:,} descriptor checks on {plans} plans, seeds 0 to {plans - 1}")


@pytest.mark.long
def test_a_million_descriptor_checks() -> None:
    done = sum(
        many(lambda seed, make=make: make(seed, "ordered"), 1_000_000, 500_000)[0] for make in (by_hand, granted)
    )  # type: ignore[misc]
    print(f"{done:,} descriptor checks, seeds from 1000000")
    assert done >= 1_000_000
