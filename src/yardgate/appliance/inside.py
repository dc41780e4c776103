"""What lies in folders of a Linux host: read in portions, and pushed lists down over.

Files of one folder that shall have one list get it by one command from within that folder, after a look that it is still where it was: so
no link that somebody puts in the way leads elsewhere. Links are left alone, and so is what lies on another file system.
"""

from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping, Sequence
from itertools import islice

from yardgate.appliance.linux import DOMAIN, Command, Runner, list_text, ordered_lists, posix_lists
from yardgate.appliance.target import ApplianceError
from yardgate.core.inside import Thing
from yardgate.core.lists import Ordered, Posix
from yardgate.core.system import Folder
from yardgate.formats import descriptor

PORTION = 4000  # things that are read at a time
BATCH = 1000  # things that one command gets
FIND = r"""test "$(realpath -e -- "$1")" = "$1" || { echo no folder of its own, or behind a link: "$1" >&2; exit 1; }
find "$@" -printf '%y%p\0'"""


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
        yield len(found), things(run, {name[1:]: name[0] == "d" for name in found[start : start + PORTION]})


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


SET = r"""group=$1 list=$2 value=$3 bits=$4 kind=$5
plain() { case $1 in *\\*) out=$(printf '%b.' "$1"); out=${out%.} ;; *) out=$1 ;; esac; }
give() {
  test "$#" -gt 0 || return 0
  chgrp -h -- "$group" "$@"
  case $list in *default:*) ;; *) test "$kind" = file || setfacl -P --remove-default -- "$@" ;; esac
  printf '%s' "$list" | setfacl -P --set-file=- -- "$@"
  test "$kind" = file || chmod "$bits" -- "$@"
  if test -n "$value"; then setfattr -h --name=security.NTACL --value="$value" -- "$@"
  else setfattr -h --remove=security.NTACL -- "$@" 2> /dev/null; fi
}
set --
at=
while IFS= read -r line; do
  case $line in
    f*) plain "${line#f}"; test -z "$at" || set -- "$@" "./$out" ;;
    d*) give "$@"; set --; plain "${line#d}"; at=$out
        cd -P -- "$at" && test "$PWD" = "$at" || at=
        if test "$kind" = folder && test -n "$at"; then set -- .; fi ;;
  esac
done
give "$@"
exit 0"""


def give(run: Runner, wanted: Sequence[Thing]) -> None:
    """Let things have the group and the list that they have here. What cannot be set is found by reading it back.

    Raises ApplianceError, where the host does not know somebody who is named.
    """
    kinds: dict[Hashable, list[Thing]] = {}
    for thing in wanted:
        kinds.setdefault(_kind(thing), []).append(thing)
    for some in kinds.values():
        first = some[0]
        value = _value(run, first) if isinstance(first.listed, Ordered) else ""
        bits = f"g{'+' if first.mode.setgid else '-'}s,a{'+' if first.mode.sticky else '-'}t"
        argv = (first.group, list_text(first.mode), value, bits, "folder" if first.folder else "file")
        waiting = iter(sorted(some, key=lambda thing: thing.name))
        while batch := list(islice(waiting, BATCH)):
            lines = "".join(f"{line}\n" for line in _lines(batch))
            command = Command(("sh", "-uc", SET, "sh", *argv), "push a list down", lines)
            run(command).needed(command.why)


def _kind(thing: Thing) -> Hashable:
    """All that a command sets; the owner stands in a security descriptor."""
    owner = thing.owner if isinstance(thing.listed, Ordered) else ""
    return thing.folder, owner, thing.group, thing.listed, thing.beneath


def _lines(some: Iterable[Thing]) -> Iterator[str]:
    """For SET: each folder that one goes into, and the names in it; names with a backslash or line break as printf(1) reads them."""
    where = ""
    for thing in some:
        above, _, name = (thing.name, "", "") if thing.folder else thing.name.rpartition("/")
        if above != where:
            where = above
            yield f"d{_escaped(above)}"
        if name:
            yield f"f{_escaped(name)}"


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace("\n", "\\n")


def _value(run: Runner, thing: Thing) -> str:
    """The security descriptor of a thing in hexadecimal, with the numbers that its host has for those who are named."""
    whole = Folder(name=thing.name, owner=thing.owner, group=thing.group, listed=thing.listed)
    found = "0x"
    for kind, said in descriptor.pieces(whole):
        found += said if kind == "hex" else _number(run, kind, said).to_bytes(4, "little").hex()
    return found


def _number(run: Runner, database: str, name: str) -> int:
    done = run(Command(("getent", database, name), f"look up the number of {name}", changes=False, root=False))
    if done.code and not name.isdecimal():  # who is known by number alone goes by it
        raise ApplianceError(f"the host does not know {name}")
    return int(name if done.code else done.out.split(":")[2])
