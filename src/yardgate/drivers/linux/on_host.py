"""Runs on the host, under its own Python: gives files and folders a group, lists and mode bits, and nothing but those that are meant.

Whoever may write in a folder may at any time put a link, or another file, in the place of what is in it. So each thing is opened first,
name by name from the top, links never followed (open(2), O_NOFOLLOW), looked at, and then changed through what was opened: it is the
same thing, whatever stands in its place by then. A file that has a second name (link(2)) may belong elsewhere, and is left alone.

What cannot be set is left as it is; whoever asked reads back. Argument: what to give, as JSON. Input: paths, a zero byte after each.
"""

from __future__ import annotations

import contextlib
import grp
import json
import os
import pwd
import stat
import struct
import sys
from typing import Any

TAGS = {
    ("user", False): 1,
    ("user", True): 2,
    ("group", False): 4,
    ("group", True): 8,
    ("mask", False): 16,
    ("other", False): 32,
}
"""Tag and whether somebody is named -> the kernel's number (linux/posix_acl.h)."""
NOBODY = 0xFFFFFFFF  # who an entry without a name is for
ACCESS, DEFAULT, KEPT = "system.posix_acl_access", "system.posix_acl_default", "security.NTACL"
FOLDER = os.O_PATH | os.O_NOFOLLOW | os.O_DIRECTORY | os.O_CLOEXEC


def number(group: bool, name: str) -> int:
    try:
        return grp.getgrnam(name).gr_gid if group else pwd.getpwnam(name).pw_uid
    except KeyError:
        if name.isdigit():  # who is known by number alone goes by it
            return int(name)
        raise SystemExit(f"the host does not know {name}") from None


def packed(entries: list[tuple[str, str, int]]) -> bytes:
    """A list as the kernel's extended attribute has it (linux/posix_acl_xattr.h, version 2): [tag, name, permissions], in order."""
    rows = []
    for tag, name, perms in entries:
        who = number(tag == "group", name) if name else NOBODY
        rows.append((TAGS[tag, bool(name)], who, perms))
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", tag, perms, who) for tag, who, perms in sorted(rows))


class Folders:
    """Opened folders: those on the way to the one that was asked for last."""

    def __init__(self) -> None:
        self.way = [(b"/", os.open(b"/", FOLDER))]

    def opened(self, path: bytes) -> int:
        """Raises OSError where it is not there, or a link is on the way."""
        names = [name for name in path.split(b"/") if name]
        same = 0
        while same < len(names) and same + 1 < len(self.way) and self.way[same + 1][0] == names[same]:
            same += 1
        while len(self.way) > same + 1:
            os.close(self.way.pop()[1])
        for name in names[same:]:
            if name in (b".", b".."):
                raise OSError(f"{path!r} is not a plain path")
            self.way.append((name, os.open(name, FOLDER, dir_fd=self.way[-1][1])))
        return self.way[-1][1]


class Wanted:
    """What things shall have. Numbers are looked up once."""

    def __init__(self, said: dict[str, Any]) -> None:
        self.folder, self.group = said["folder"], number(True, said["group"])
        self.access = packed(said["access"])
        self.default = packed(said["default"]) if said["default"] else None
        self.kept = bytes.fromhex(said["value"]) if said["value"] else None
        self.bits = stat.S_ISGID * said["setgid"] | stat.S_ISVTX * said["sticky"]

    def give(self, fd: int) -> None:
        """Give it to what is open, if that is of the kind that is meant and has no other name."""
        mode = os.fstat(fd)
        kind = stat.S_ISDIR(mode.st_mode) if self.folder else stat.S_ISREG(mode.st_mode) and mode.st_nlink == 1
        if not kind:
            return
        itself = f"/proc/self/fd/{fd}"
        os.chown(itself, -1, self.group)
        if self.folder:
            self._set(itself, DEFAULT, self.default)
        os.setxattr(itself, ACCESS, self.access)
        if self.folder:
            plain = stat.S_IMODE(os.fstat(fd).st_mode) & ~(stat.S_ISGID | stat.S_ISVTX)
            os.chmod(itself, plain | self.bits)
        self._set(itself, KEPT, self.kept)

    @staticmethod
    def _set(itself: str, name: str, value: bytes | None) -> None:
        if value is not None:
            os.setxattr(itself, name, value)
            return
        with contextlib.suppress(OSError):  # where there is none, or can be none
            os.removexattr(itself, name)


def main() -> None:
    wanted, folders = Wanted(json.loads(sys.argv[1])), Folders()
    for path in sys.stdin.buffer.read().split(b"\0"):
        if not path:
            continue
        above, _, name = path.rpartition(b"/")
        with contextlib.suppress(OSError):
            if wanted.folder:
                wanted.give(folders.opened(path))
                continue
            fd = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folders.opened(above))
            try:
                wanted.give(fd)
            finally:
                os.close(fd)


if __name__ == "__main__":
    main()
