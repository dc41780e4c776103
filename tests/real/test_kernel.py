"""POSIX lists and mode bits against the Linux kernel: laid on the real file system and tried as the plan's people."""

import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.real.kernel import compare, kernel
from tests.real.storage import by_hand, granted
from yardgate.core.model.plan import Plan

HERE_AND_NOW = 20_000  # predictions of each of three kinds in every run


@pytest.fixture
def ground() -> Iterator[Path]:
    """A folder that everybody may enter, above and below."""
    path = Path(tempfile.mkdtemp(prefix="yardgate-kernel-", dir="/tmp"))
    os.chmod(path, 0o755)
    yield path
    shutil.rmtree(path)


def many(ground: Path, make: Callable[[int], Plan], first: int, wanted: int) -> tuple[int, int]:
    """Plans from seed `first` on until enough was predicted: (predictions, plans). Fails on the first plan that differs."""
    done = seed = 0
    with kernel() as helper:
        while done < wanted:
            top = ground / str(seed)
            top.mkdir()
            asked, wrong = compare(make(first + seed), top, helper, umask=(0o022, 0o002, 0o077)[seed % 3])
            assert wrong == [], f"seed {first + seed}: {len(wrong)} of {asked} differ, the first {wrong[:5]}"
            shutil.rmtree(top)
            done, seed = done + asked, seed + 1
    return done, seed


def test_lists_by_hand_are_what_the_kernel_makes_of_them(ground: Path) -> None:
    done, plans = many(ground, lambda seed: by_hand(seed, "kernel"), 0, HERE_AND_NOW)
    print(f"{done:,} predictions on {plans} plans, seeds 0 to {plans - 1}")


@pytest.mark.parametrize("style", ["posix", "mode"])
def test_compiled_lists_are_what_the_kernel_makes_of_them(ground: Path, style: str) -> None:
    done, plans = many(ground, lambda seed: granted(seed, style), 0, HERE_AND_NOW)
    print(f"{done:,} predictions on {plans} plans, seeds 0 to {plans - 1}")


@pytest.mark.long
def test_a_million_predictions(ground: Path) -> None:
    done = sum(
        many(ground, make, 1_000_000, 1_000_000 // 3 + 1)[0]
        for make in (lambda s: by_hand(s, "kernel"), lambda s: granted(s, "posix"), lambda s: granted(s, "mode"))
    )
    print(f"{done:,} predictions, seeds from 1000000")
    assert done >= 1_000_000
