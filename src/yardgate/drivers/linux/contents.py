"""What lies in folders of a Linux host: read in portions, and pushed lists down over.

Lists are given by a program of ours on the host (`on_host`), so that no link that somebody puts in the way leads elsewhere. Links are left
alone, and so are files that have a second name, and what lies on another file system.
"""

import json
from collections.abc import Collection, Hashable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import islice
from pathlib import Path

from yardgate.core.acl import Ordered, Posix
from yardgate.core.host.contents import Handed, Owned, Thing
from yardgate.core.host.state import Folder
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Runner, understood
from yardgate.drivers.linux.reading import DOMAIN, ordered_lists, posix_lists
from yardgate.formats import descriptor

PORTION = 4000  # things that are read at a time
BATCH = 1000  # things that one command gets
FIND = r"""test "$(realpath -e -- "$1")" = "$1" || { echo no folder of its own, or behind a link: "$1" >&2; exit 1; }
find "$@" '(' -type f -links +1 -printf 'h%p\0' -o -printf '%y%p\0' ')'"""


def inside(run: Runner, folder: str, apart: Collection[str] = ()) -> Iterator[tuple[int, list[Thing]]]:
    """The files and folders in a folder, but those `apart` and what is in these: in portions, each with the number of all.

    Raises ApplianceError.
    """
    left_out = [part for name in sorted(apart) for part in ("-path", _pattern(name), "-prune", "-o")]
    head = (folder, "-ignore_readdir_race", "-xdev", "-mindepth", "1")
    kinds = ("(", "-type", "f", "-o", "-type", "d", ")")
    looking = (*head, *left_out, *kinds)
    command = Command(("sh", "-euc", FIND, "sh", *looking), f"look what lies in {folder}", changes=False)
    found = [name for name in run(command).needed(command.why).split("\0") if name]
    for start in range(0, len(found), PORTION):
        kinds_of = {name[1:]: name[0] for name in found[start : start + PORTION]}
        some = things(run, {name: kind == "d" for name, kind in kinds_of.items()})
        yield len(found), [replace(thing, linked=kinds_of[thing.name] == "h") for thing in some]


def _pattern(path: str) -> str:
    """A path that find(1) takes for nothing but itself."""
    return "".join(f"\\{char}" if char in "*?[]\\" else char for char in path)


def things(run: Runner, paths: Mapping[str, bool]) -> list[Thing]:
    """What is there of some paths -> whether they are folders'. Raises ApplianceError."""
    return list(_things(run, paths))


def _things(run: Runner, paths: Mapping[str, bool]) -> Iterator[Thing]:
    there = posix_lists(run, paths)
    kept = ordered_lists(run, there) if there else {}
    for path, own in there.items():
        is_folder = paths[path]
        if path not in kept:
            yield Thing(name=path, folder=is_folder, owner=own.owner, group=own.group, listed=own.listed)
            continue
        assert isinstance(own.listed, Posix)
        owner = own.owner if kept[path].owner.startswith(DOMAIN) else kept[path].owner
        listed = kept[path].listed
        yield Thing(name=path, folder=is_folder, owner=owner, group=own.group, listed=listed, beneath=own.listed)


OWNED = """name=$1; shift; id -u -- "$name" > /dev/null
for top; do
  find "$top" -xdev -user "$name" -printf '%b\\n' | awk '{ things++; blocks += $1 } END { printf "%d %d\\n", things, blocks }'
done"""


def owned(run: Runner, account: str, folders: Sequence[str]) -> tuple[Owned, ...]:
    """What an account owns below some folders that are there. Raises ApplianceError."""
    asking = Command(("sh", "-euc", OWNED, "sh", account, *folders), "count what an account owns", changes=False)
    rows = (line.split() for line in run(asking).needed(asking.why).splitlines())
    with understood(asking.why):
        return tuple(
            Owned(folder, int(things), int(blocks) * 512)
            for folder, (things, blocks) in zip(folders, rows, strict=True)
        )


HANDING = (Path(__file__).parent / "hand_over.py").read_text()


def hand_over(run: Runner, account: str, to: str, folders: Sequence[str]) -> Handed:
    """Give what an account owns below some folders to another. Where ordered lists are kept, the owner stands in these as well.

    Raises ApplianceError.
    """
    numbers = [str(_number(run, "passwd", name)) for name in (account, to)]
    command = Command(("python3", "-I", "-c", HANDING, *numbers, *folders), "give what one owns to another")
    *given, left = run(command).needed(command.why).split("\0")
    for start in range(0, len(given), PORTION):
        looking = Command(
            ("xargs", "-0", "stat", "--format=%F", "--"), "look what was given", "".join(f"{name}\0" for name in given[start : start + PORTION]), changes=False
        )  # fmt: skip
        kinds = run(looking).needed(looking.why).splitlines()
        there = {name: kind == "directory" for name, kind in zip(given[start:], kinds, strict=False)}
        stale = [one for one in things(run, there) if isinstance(one.listed, Ordered) and one.owner == account]
        give(run, [replace(one, owner=to) for one in stale])
    with understood(command.why):
        return Handed(len(given), int(left))


ON_HOST = (Path(__file__).parent / "on_host.py").read_text()


def give(run: Runner, wanted: Sequence[Thing]) -> None:
    """Let things have the group and the list that they have here. What cannot be set is found by reading it back.

    Raises ApplianceError, where the host does not know somebody who is named.
    """
    kinds: dict[Hashable, list[Thing]] = {}
    for thing in wanted:
        kinds.setdefault(_kind(thing), []).append(thing)
    for some in kinds.values():
        first = some[0]
        mode = first.mode
        said = {
            "folder": first.folder,
            "group": first.group,
            "access": [(entry.tag, entry.who, entry.perms) for entry in mode.access],
            "default": [(entry.tag, entry.who, entry.perms) for entry in mode.default or ()],
            "value": _value(run, first) if isinstance(first.listed, Ordered) else "",
            "setgid": mode.setgid,
            "sticky": mode.sticky,
        }
        waiting = iter(sorted(thing.name for thing in some))
        while batch := list(islice(waiting, BATCH)):
            given = "".join(f"{name}\0" for name in batch)
            command = Command(("python3", "-I", "-c", ON_HOST, json.dumps(said)), "push a list down", given)
            run(command).needed(command.why)


def _kind(thing: Thing) -> Hashable:
    """All that a command sets; the owner stands in a security descriptor."""
    owner = thing.owner if isinstance(thing.listed, Ordered) else ""
    return thing.folder, owner, thing.group, thing.listed, thing.beneath


def _value(run: Runner, thing: Thing) -> str:
    """The security descriptor of a thing in hexadecimal, with the numbers that its host has for those who are named."""
    whole = Folder(name=thing.name, owner=thing.owner, group=thing.group, listed=thing.listed)
    found = ""
    for kind, said in descriptor.pieces(whole):
        found += said if kind == "hex" else _number(run, kind, said).to_bytes(4, "little").hex()
    return found


def _number(run: Runner, database: str, name: str) -> int:
    asking = Command(("getent", database, name), f"look up the number of {name}", changes=False, root=False)
    done = run(asking)
    if done.code and not name.isdecimal():  # who is known by number alone goes by it
        raise ApplianceError(f"the host does not know {name}")
    with understood(asking.why):
        return int(name if done.code else done.out.split(":")[2])
