"""Snapshots of a dataset on a Linux host, what is otherwise since one of them, and going back to it: by a program of ours there (`go_back`)."""

import json
from collections.abc import Generator, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from pydantic import TypeAdapter

from yardgate.core.host.going_back import Since, made_at
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Runner, understood
from yardgate.drivers.linux.datasets import PATIENT, ZFS_NAME

PROGRAM = (Path(__file__).parent / "go_back.py").read_text()
TOLD = TypeAdapter(Since)
PORTION = 50  # names in a dataset that one command goes through, with what is in them
# Says the number of each dataset that is there, and with its number the names of its snapshots.
LIST = (
    ZFS_NAME
    + """n=0; for path; do
  if test "$(stat -f -c %T -- "$path" 2> /dev/null) $(stat -c %i -- "$path" 2> /dev/null)" = "btrfs 256"; then
    echo "$n"
    kept=$path/.snapshots
    if test -d "$kept" && test ! -L "$kept" && test "$(stat -c %u -- "$kept")" = 0; then
      for one in "$kept"/@*; do echo "$n ${one##*/}"; done
    fi
  elif command -v zfs > /dev/null && name=$(zfs_name "$path") && test -n "$name"; then
    echo "$n"
    zfs list -H -d 1 -t snapshot -o name "$name" | sed "s/^[^@]*/$n /"
  fi
  n=$((n + 1))
done"""
)
# A snapshot of ZFS is read as a dataset that is made of it, since not every ZFS has a folder of them. Says where it can be read.
OPEN = (
    ZFS_NAME
    + """if test "$(stat -f -c %T -- "$1")" = btrfs; then
  cd -P -- "$1/.snapshots/$2" && test "$PWD" = "$1/.snapshots/$2" && test "$(stat -c %u ..) $(stat -c %i .)" = "0 256" || {
    echo "there is no snapshot of that name" >&2; exit 1
  }
  printf '%s\\n' "$PWD"; exit
fi
name=$(zfs_name "$1"); test -n "$name" || { echo "no dataset is mounted at $1" >&2; exit 1; }
if zfs list -H -o name "$name-yardgate-earlier" > /dev/null 2>&1; then zfs destroy "$name-yardgate-earlier"; fi
at=$(mktemp -d /run/yardgate-earlier.XXXXXX)
zfs clone -o readonly=on -o mountpoint="$at" "$name$2" "$name-yardgate-earlier" || { rmdir -- "$at"; exit 1; }
printf '%s\\n' "$at"
"""
)
CLOSE = (
    ZFS_NAME
    + PATIENT
    + """case $2 in /run/yardgate-earlier.*) ;; *) exit 0 ;; esac
patient zfs destroy "$(zfs_name "$1")-yardgate-earlier"
rmdir -- "$2" 2> /dev/null || true
"""
)


def snapshots(run: Runner, datasets: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """The names of those that there are, the newest first, of each dataset that is there. Raises ApplianceError."""
    asking = Command(("sh", "-euc", LIST, "sh", *datasets), "read which snapshots there are", changes=False)
    rows = [line.partition(" ") for line in run(asking).needed(asking.why).splitlines()]
    return {
        dataset: tuple(sorted((name for of, _, name in rows if of == str(n) and made_at(name)), reverse=True))
        for n, dataset in enumerate(datasets)
        if (str(n), "", "") in rows
    }


def since(run: Runner, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
    """What is otherwise than in a snapshot, in portions: how many names of the dataset are gone through, of how many. Raises ApplianceError."""
    with _earlier(run, dataset, snapshot) as then:
        yield from _portions(run, "look", dataset, then)


def go_back(run: Runner, dataset: str, snapshot: str) -> Generator[tuple[int, int, Since]]:
    """Let all in a dataset be what it was in a snapshot, in portions. Again does no harm. Raises ApplianceError."""
    with _earlier(run, dataset, snapshot) as then:
        for first in ("away", "links"):
            yield 0, 1, _told(run, first, dataset, then, ())
        yield from _portions(run, "back", dataset, then)


@contextmanager
def _earlier(run: Runner, dataset: str, snapshot: str) -> Iterator[str]:
    """The folder in which a snapshot can be read."""
    if made_at(snapshot) is None:
        raise ApplianceError(f"{snapshot} is no name of a snapshot")
    opening = Command(("sh", "-euc", OPEN, "sh", dataset, snapshot), f"open the snapshot {snapshot} of {dataset}")
    then = run(opening).needed(opening.why).rstrip("\n")
    try:
        yield then
    finally:
        run(Command(("sh", "-euc", CLOSE, "sh", dataset, then), "close a snapshot"))


def _portions(run: Runner, does: str, dataset: str, then: str) -> Iterator[tuple[int, int, Since]]:
    asking = Command(("python3", "-I", "-c", PROGRAM, "names", dataset, then), "read what is in it", changes=False)
    names = [name for name in run(asking).needed(asking.why).split("\0") if name] + ["."]
    for start in range(0, len(names), PORTION):
        some = names[start : start + PORTION]
        yield start + len(some), len(names), _told(run, does, dataset, then, some)


def _told(run: Runner, does: str, dataset: str, then: str, names: Sequence[str]) -> Since:
    why = "look what is otherwise than in a snapshot" if does == "look" else "go back to a snapshot"
    given = "".join(f"{name}\0" for name in names)
    command = Command(
        ("python3", "-I", "-c", PROGRAM, does, dataset, then),
        why,
        given,
        changes=does != "look",
        long=True,
    )
    said = run(command).needed(command.why)
    with understood(why):
        return TOLD.validate_python(json.loads(said))  # names may hold what is no text, which json alone takes
