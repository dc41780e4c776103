"""Laying a plan's storage on the real file system, and asking the kernel as the plan's people."""

import os
import struct
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from tests.conftest import ON
from tests.real.helper import Helper, helper
from yardgate.core.access.bitsets import count
from yardgate.core.access.forecast import make
from yardgate.core.access.membership import token
from yardgate.core.access.storage import PosixState, StorageState, rights_on, storage_state
from yardgate.core.acl.mode import SETGID, STICKY, bits_of
from yardgate.core.acl.posix import PosixEntry
from yardgate.core.acl.rights import (
    ADD_FILE,
    ADD_SUBDIRECTORY,
    APART,
    DELETE_CHILD,
    EXECUTE,
    LIST_DIRECTORY,
    READ_DATA,
    WRITE_DATA,
)
from yardgate.core.model.plan import ROOT, Plan

TAG = {("user", False): 0x01, ("user", True): 0x02, ("group", False): 0x04, ("group", True): 0x08}
TAG |= {("mask", False): 0x10, ("other", False): 0x20}
PRIVATE_GID = 29999  # of those without a primary group


def number(plan: Plan, who: str) -> int:
    if who == ROOT:
        return 0
    found = plan.users[who].uid if who in plan.users else plan.groups[who].gid
    assert found is not None
    return found


def attribute(plan: Plan, entries: tuple[PosixEntry, ...]) -> bytes:
    """A list as the kernel takes it (linux/posix_acl_xattr.h): version, then tag, permissions and id of each entry."""
    coded = [(TAG[e.tag, bool(e.who)], e.perms, number(plan, e.who) if e.who else 2**32 - 1) for e in entries]
    return struct.pack("<I", 2) + b"".join(
        struct.pack("<HHI", *entry) for entry in sorted(coded, key=lambda e: (e[0], e[2]))
    )


def put_list(plan: Plan, path: Path, name: str, entries: tuple[PosixEntry, ...]) -> None:
    os.setxattr(path, f"system.posix_acl_{name}", attribute(plan, entries))


def get_list(plan: Plan, path: Path, name: str) -> frozenset[PosixEntry] | None:
    """The list of a real thing, read back; None where it has none but its mode."""
    try:
        raw = os.getxattr(path, f"system.posix_acl_{name}")
    except OSError:
        return None
    users = {user.uid: user.id for user in plan.users.values()}
    groups = {group.gid: group.id for group in plan.groups.values()}
    found = []
    for tag, perms, who in struct.iter_unpack("<HHI", raw[4:]):
        word, named = next(key for key, value in TAG.items() if value == tag)
        found.append(PosixEntry(word, ({"user": users, "group": groups}[word][who] if named else ""), perms))  # type: ignore[arg-type, index]
    return frozenset(found)


def lay_down(plan: Plan, storage: StorageState, top: Path, subjects: list[str]) -> dict[str, Path]:
    """Make every place with its owner, group and list, and in each an ordinary file, and for everybody one to delete.

    Where no list is planned, storage is made to object to nothing.
    """
    where: dict[str, Path] = {}
    for place in plan.places.values():
        path = (where[place.parent] if place.parent else top) / place.name
        path.mkdir()
        where[place.id] = path
    for place, path in where.items():
        names = ("plain", *(f"doomed-{subject}" for subject in subjects))
        stored = storage.get(place)
        if stored is None or stored.list is None:
            for name in names:
                (path / name).touch()
                (path / name).chmod(0o666)
            path.chmod(0o777)
            continue
        listed = stored.list
        assert isinstance(listed, PosixState)
        owner, group = number(plan, stored.owner), number(plan, stored.group)
        for name in names:
            file = path / name
            file.touch()
            os.chown(file, owner, group)
            put_list(plan, file, "access", listed.file)
        os.chown(path, owner, group)
        if listed.style == "posix":
            put_list(plan, path, "access", listed.access)
            if listed.default is not None:
                put_list(plan, path, "default", listed.default)
        extra = SETGID * listed.setgid | STICKY * listed.sticky
        os.chmod(path, bits_of(listed.access) | extra)
    return where


class Kernel:
    """The helper that forks children with other ids."""

    def __init__(self, beside: Helper) -> None:
        self.beside = beside

    def ask(
        self, plan: Plan, subject: str, names: Mapping[str, object], folders: list[Path], umask: int
    ) -> list[dict[str, bool]]:
        primary = plan.users[subject].primary_group
        task = {
            "me": subject,
            "uid": number(plan, subject),
            "gid": number(plan, primary) if primary else PRIVATE_GID,
            "groups": [number(plan, name) for name in names if name in plan.groups],
            "umask": umask,
            "folders": [str(folder) for folder in folders],
        }
        found: list[dict[str, bool]] = self.beside.ask(task)
        return found


@contextmanager
def kernel() -> Iterator[Kernel]:
    with helper(sys.executable, "kernel_child.py") as beside:
        yield Kernel(beside)


def predicted(
    plan: Plan, storage: StorageState, subject: str, names: Mapping[str, object], place: str
) -> dict[str, bool]:
    """What the core says of everything that `kernel_child.ask` tries."""
    folder, file = rights_on(plan, storage[place], subject, names)
    reached = all(rights_on(plan, storage[p], subject, names).folder & EXECUTE for p in plan.path(place)[:-1])
    entered = reached and bool(folder & EXECUTE)
    return {
        "enter": entered,
        "list": reached and bool(folder & LIST_DIRECTORY),
        "read": entered and bool(file & READ_DATA),
        "write": entered and bool(file & WRITE_DATA),
        "both": entered and bool(file & READ_DATA and file & WRITE_DATA and not file & APART),
        "run": entered and bool(file & EXECUTE),
        "add": reached and bool(folder & ADD_FILE),
        "add folder": reached and bool(folder & ADD_SUBDIRECTORY),
        "delete": reached and bool(folder & DELETE_CHILD),
    }


def compare(plan: Plan, top: Path, asked_of: Kernel, umask: int) -> tuple[int, list[str]]:
    """All predictions for all people on all places of a plan, new things included: (how many, what differs)."""
    storage = storage_state(plan, count(plan, ON))
    where = lay_down(plan, storage, top, list(plan.users))
    asked, wrong = 0, []
    for subject in plan.users:
        names = token(plan, subject)
        real = asked_of.ask(plan, subject, names, list(where.values()), umask)
        for (place, path), answers in zip(where.items(), real, strict=True):
            expected = predicted(plan, storage, subject, names, place)
            if plan.users[subject].uid == 0:
                expected["run"] = answers["run"]  # root runs a file if anybody may; not a right that a plan is about
            asked += len(answers)
            wrong += [f"{subject} {act} {place}: {answers[act]}" for act in answers if answers[act] != expected[act]]
            for act, kind, mode in (("add", "file", 0o666), ("add folder", "folder", 0o777)):
                if answers[act]:
                    asked += 3
                    new = path / f"new-{'folder-' if kind == 'folder' else ''}{subject}"
                    wrong += new_thing(plan, storage, place, subject, kind, mode, umask, new)
    return asked, wrong


def new_thing(
    plan: Plan, storage: StorageState, place: str, subject: str, kind: str, mode: int, umask: int, path: Path
) -> list[str]:
    """Owner, group, and mode with lists of a thing that somebody made, against the forecast."""
    made = make(plan, storage[place], subject, kind, mode, umask)  # type: ignore[arg-type]
    real = os.stat(path)
    group = PRIVATE_GID if made.group == subject else number(plan, made.group)
    bits = bits_of(made.access) | (SETGID if made.setgid else 0)
    access = get_list(plan, path, "access")
    lists = (access is None or access == frozenset(made.access)) and get_list(plan, path, "default") == (
        made.default and frozenset(made.default)
    )
    found = {
        "owner": (real.st_uid, number(plan, made.owner)),
        "group": (real.st_gid, group),
        "mode": (oct(real.st_mode & 0o7777), oct(bits)),
        "lists": (lists, True),
    }
    return [f"{subject} new {kind} in {place}: {what} {a} not {b}" for what, (a, b) in found.items() if a != b]


def setgid_of(storage: StorageState, place: str) -> bool:
    listed = storage[place].list
    return isinstance(listed, PosixState) and listed.setgid
