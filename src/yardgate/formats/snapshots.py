"""Which datasets of a host have snapshots, and how many are kept: the list that the host's own program reads, a line each."""

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from yardgate.core.host.state import Dataset
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Snapshots
from yardgate.formats.reading import FormatError

HEAD = "# file system, and how many snapshots are kept by the hour, day, week and month; path\n"


class Listed(NamedTuple):
    file_system: str
    kept: Snapshots


def render(datasets: Iterable[Dataset]) -> str:
    lines = [
        f"{one.file_system} {kept.hours} {kept.days} {kept.weeks} {kept.months} {one.name}\n"
        for one in datasets
        if (kept := one.snapshots) is not None
    ]
    return HEAD + "".join(lines)


def read(text: str) -> Mapping[str, Listed]:
    """By path. Raises FormatError, with the line, for one that `render` never writes."""
    found = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line or line.startswith("#"):
            continue
        kind, *counts, path = (line.split(" ", 5) + [""] * 6)[:6]
        if kind not in ("btrfs", "zfs") or not all(c.isdecimal() and len(c) < 5 for c in counts) or path[:1] != "/":
            raise FormatError(f"{show(line)} is nothing that a rollout writes", number, 1)
        hours, days, weeks, months = map(int, counts)
        found[path] = Listed(kind, Snapshots(hours=hours, days=days, weeks=weeks, months=months))
    return found
