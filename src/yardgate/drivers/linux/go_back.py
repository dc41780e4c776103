"""Runs on the host, under its own Python: tells what of a dataset is otherwise than in a snapshot of it, or makes it so again in place.

In place, since datasets below, mounts, shares and open folders then stay what they are. Each thing is opened first, no link followed
(open(2), O_NOFOLLOW), and looked at and changed through what was opened, since whoever may write there may put something else in its place
at any time. What lies on another file system, as a dataset below, is left alone.

A thing whose number and time of change (stat(2), st_ino and st_ctime) are those of the snapshot was not touched since: nobody can set that
time. A file with other rights is told to have other contents, too, by its size and when it was written; what else was touched is read.

Arguments: what to do, the dataset, and the folder where its snapshot can be read. Input: names in the dataset, a zero byte after each; `.`
for the dataset itself without what is in it. To `look`, and to go `back`, are done name by name. Before going back, and for all names at once:
`away` takes away what was not there then, which makes room where a quota counts; `links` is for all that has more than one name (link(2)),
wherever in the dataset. `names` tells all there are, now or then.
"""

from __future__ import annotations

import errno
import fcntl
import json
import os
import pwd
import resource
import stat
import sys
from typing import Any

THING = os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC
CLONE = 0x40049409  # FICLONE, ioctl_ficlonerange(2)
STUB = 2  # the number of the empty folder that a snapshot of btrfs has where another subvolume lay
OURS = b"trusted.yardgate."  # which place of a plan a dataset is, which no snapshot knows better
PORTION, SOME = 1 << 20, 20


def opened(name: bytes, above: int) -> int | None:
    """A thing in a folder; None where there is none."""
    try:
        return os.open(name, THING, dir_fd=above)
    except FileNotFoundError:
        return None


def listed(fd: int) -> list[bytes]:
    here = os.open(b".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=fd)
    try:
        return [os.fsencode(name) for name in os.listdir(here)]
    finally:
        os.close(here)


def itself(fd: int) -> str:
    return f"/proc/self/fd/{fd}"


def attributes(fd: int) -> dict[bytes, bytes]:
    """Lists, and whatever else is kept with a thing (xattr(7))."""
    try:
        names = [os.fsencode(name) for name in os.listxattr(itself(fd))]
        return {name: os.getxattr(itself(fd), name) for name in names if not name.startswith(OURS)}
    except OSError as error:
        if error.errno in (errno.ENOTSUP, errno.ENOSYS):
            return {}
        raise


def rights(fd: int, found: os.stat_result) -> tuple[Any, ...]:
    if stat.S_ISLNK(found.st_mode):
        return found.st_uid, found.st_gid
    return found.st_uid, found.st_gid, stat.S_IMODE(found.st_mode), attributes(fd)


def contents(fd: int, found: os.stat_result) -> tuple[Any, ...]:
    """What tells that contents are the same, as far as is told."""
    if stat.S_ISREG(found.st_mode):
        return found.st_size, found.st_mtime_ns
    if stat.S_ISLNK(found.st_mode):
        return (os.readlink(b"", dir_fd=fd),)
    return () if stat.S_ISDIR(found.st_mode) else (found.st_rdev,)


def untouched(live: os.stat_result, was: os.stat_result) -> bool:
    return (live.st_ino, live.st_ctime_ns, live.st_size) == (was.st_ino, was.st_ctime_ns, was.st_size)


def same(live: int, was: int, size: int) -> bool:
    """Whether two files that are as large hold the same."""
    with open(itself(live), "rb", buffering=0) as one, open(itself(was), "rb", buffering=0) as other:
        pieces = range(0, size, PORTION)
        return all(os.pread(one.fileno(), PORTION, at) == os.pread(other.fileno(), PORTION, at) for at in pieces)


def fill(live: int, was: int, size: int) -> None:
    """Let a file have the contents of another: by sharing them, where the file system can."""
    os.ftruncate(live, size)
    try:
        fcntl.ioctl(live, CLONE, was)
    except OSError as error:
        if error.errno not in (errno.EOPNOTSUPP, errno.ENOTTY, errno.EXDEV, errno.EINVAL, errno.ENOSYS):
            raise
        for at in range(0, size, PORTION):
            wanted = os.pread(was, PORTION, at)
            if os.pread(live, PORTION, at) != wanted:  # so that holes stay holes
                os.pwrite(live, wanted, at)


def said(error: OSError) -> str:
    return (error.strerror or str(error)).lower()


class Going:
    def __init__(self, does: str, top: int, then: int) -> None:
        self.does, self.device, self.was_device = does, os.fstat(top).st_dev, os.fstat(then).st_dev
        self.top = top
        self.counts = dict.fromkeys(("things", "changed", "new", "gone", "rights", "left"), 0)
        self.people: dict[int, int] = {}
        self.latest = 0
        self.some: list[tuple[str, str, str]] = []
        # Of files with several names: the number in the snapshot -> the first name that has it again; and the numbers that these have now.
        self.first: dict[int, bytes] = {}
        self.claimed: set[int] = set()

    def count(self, sort: str, path: bytes, live: os.stat_result | None, words: str = "") -> None:
        self.counts[sort] += 1
        if live is not None and sort in ("changed", "new") and stat.S_ISREG(live.st_mode):
            self.people[live.st_uid] = self.people.get(live.st_uid, 0) + 1
            self.latest = max(self.latest, int(live.st_mtime))
        if len(self.some) < SOME or (sort == "left" and self.counts["left"] <= SOME):
            self.some.append((sort, os.fsdecode(path), words))

    def thing(self, name: bytes, path: bytes, here: int, then: int) -> None:
        """Look at a name in a folder and in the same one of the snapshot, or let it be there as it was."""
        live = was = None
        try:
            live, was = opened(name, here), opened(name, then)
            if live is not None and os.fstat(live).st_dev != self.device:
                return
            if was is not None and self.elsewhere(os.fstat(was)):
                os.close(was)
                was = None
            self.pair(name, path, here, then, live, was)
        except FileNotFoundError:
            pass  # somebody took it away meanwhile
        except OSError as error:
            self.count("left", path, None, said(error))
        finally:
            for fd in (live, was):
                if fd is not None:
                    os.close(fd)

    def pair(self, name: bytes, path: bytes, here: int, then: int, live: int | None, was: int | None) -> None:
        removes = self.does in ("look", "away")
        if was is None:
            if live is not None and removes:
                self.new(name, path, here, live)
            return
        shall = os.fstat(was)
        is_folder = stat.S_ISDIR(shall.st_mode)
        has = None if live is None else os.fstat(live)
        if live is not None and has is not None and stat.S_IFMT(has.st_mode) != stat.S_IFMT(shall.st_mode):
            if not removes or not self.new(name, path, here, live):
                return  # something in it has to stay
            live = has = None
        if self.does == "away":
            if is_folder and live is not None:
                self.folder(name, path, here, live, was)
            return
        if self.does != "look" and not is_folder and (shall.st_nlink > 1) != (self.does == "links"):
            return
        self.counts["things"] += self.does != "links"
        if has is None:
            self.count("gone", path, None)
            if self.does == "look" and is_folder:
                self.gone(path, was)
        if is_folder:
            self.folder(name, path, here, live, was)
        elif self.does == "look":
            if live is not None and has is not None and not untouched(has, shall):
                self.differs(path, live, has, was, shall)
        elif self.does == "links":
            self.linked(name, path, here, then, live, was)
        else:
            self.back(name, path, here, then, live, was)

    def differs(self, path: bytes, live: int, has: os.stat_result, was: int, shall: os.stat_result) -> bool:
        if contents(live, has) != contents(was, shall):
            self.count("changed", path, has)
            return True
        if rights(live, has) != rights(was, shall):
            self.count("rights", path, has)
            return True
        if stat.S_ISREG(has.st_mode) and not same(live, was, has.st_size):  # by whoever puts back when it was written
            self.count("changed", path, has)
            return True
        return False

    def folder(self, name: bytes, path: bytes, here: int, live: int | None, was: int) -> None:
        """What is in a folder, then the folder itself."""
        made = None
        if live is None:
            if self.does == "look":
                return
            os.mkdir(name, 0o700, dir_fd=here)
            live = made = os.open(name, THING | os.O_DIRECTORY, dir_fd=here)
        try:
            if made is not None and (os.fstat(made).st_uid != 0 or os.fstat(made).st_mode & 0o077):
                raise OSError(errno.ESTALE, "somebody put another in its place")
            for one in sorted({*listed(live), *listed(was)}):
                self.thing(one, path + b"/" + one, live, was)
            if self.does != "away":
                self.own(path, live, was, made=made is not None)
        finally:
            if made is not None:
                os.close(made)

    def own(self, path: bytes, live: int, was: int, *, made: bool = False) -> None:
        """A folder's own rights, and when something in it was changed last."""
        if rights(live, os.fstat(live)) != rights(was, os.fstat(was)):
            if not made and self.does != "links":
                self.count("rights", path, None)
            if made or self.does == "back":
                self.give(live, was)
        if self.does == "back":
            shall = os.fstat(was)
            os.utime(itself(live), ns=(shall.st_atime_ns, shall.st_mtime_ns))

    def new(self, name: bytes, path: bytes, here: int, live: int) -> bool:
        """What was not there then: whether it went, or would. Where something in it has to stay, it stays, too."""
        found = os.fstat(live)
        goes = True
        for one in sorted(listed(live)) if stat.S_ISDIR(found.st_mode) else ():
            inner = opened(one, live)
            if inner is None:
                continue
            try:
                if os.fstat(inner).st_dev == self.device:
                    goes = self.new(one, path + b"/" + one, live, inner) and goes
                else:
                    goes = False
                    self.count("left", path + b"/" + one, None, "a file system of its own")
            except OSError as error:
                goes = False
                self.count("left", path + b"/" + one, None, said(error))
            finally:
                os.close(inner)
        self.counts["things"] += self.does == "look"
        if goes:
            if self.does != "look":
                (os.rmdir if stat.S_ISDIR(found.st_mode) else os.unlink)(name, dir_fd=here)
            self.count("new", path, found)
        return goes

    def gone(self, path: bytes, was: int) -> None:
        """Count what is in a folder that is there no more."""
        for one in sorted(listed(was)):
            inner = opened(one, was)
            if inner is None:
                continue
            try:
                found = os.fstat(inner)
                if self.elsewhere(found):
                    continue
                self.counts["things"] += 1
                self.count("gone", path + b"/" + one, None)
                if stat.S_ISDIR(found.st_mode):
                    self.gone(path + b"/" + one, inner)
            finally:
                os.close(inner)

    def back(self, name: bytes, path: bytes, here: int, then: int, live: int | None, was: int) -> int:
        """A file, or anything that is no folder, as it was: the number that it has now."""
        shall = os.fstat(was)
        if live is not None:
            has = os.fstat(live)
            shared = has.st_nlink > 1 and (shall.st_nlink == 1 or has.st_ino in self.claimed)
            if untouched(has, shall) and not shared:
                return has.st_ino
            told = self.differs(path, live, has, was, shall)
            if not shared and stat.S_ISREG(has.st_mode):
                self.fill_and_give(live, was)
                return has.st_ino
            if not shared and not told:
                return has.st_ino
            os.unlink(name, dir_fd=here)  # what it shares with another name stays that one's
        return self.make(name, here, then, was, shall)

    def make(self, name: bytes, here: int, then: int, was: int, shall: os.stat_result) -> int:
        if stat.S_ISLNK(shall.st_mode):
            os.symlink(os.readlink(name, dir_fd=then), name, dir_fd=here)
            os.chown(name, shall.st_uid, shall.st_gid, dir_fd=here, follow_symlinks=False)
            os.utime(name, ns=(shall.st_atime_ns, shall.st_mtime_ns), dir_fd=here, follow_symlinks=False)
            return os.stat(name, dir_fd=here, follow_symlinks=False).st_ino
        if stat.S_ISREG(shall.st_mode):
            live = os.open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=here)
        else:
            os.mknod(name, stat.S_IFMT(shall.st_mode) | 0o600, shall.st_rdev, dir_fd=here)
            live = os.open(name, THING, dir_fd=here)
        try:
            found = os.fstat(live)
            if (stat.S_IFMT(found.st_mode), found.st_uid, found.st_nlink) != (stat.S_IFMT(shall.st_mode), 0, 1):
                raise OSError(errno.ESTALE, "somebody put something else in its place")
            self.fill_and_give(live, was)
            return found.st_ino
        finally:
            os.close(live)

    def fill_and_give(self, live: int, was: int) -> None:
        if stat.S_ISREG(os.fstat(was).st_mode):
            with open(itself(live), "r+b", buffering=0) as to, open(itself(was), "rb", buffering=0) as of:
                fill(to.fileno(), of.fileno(), os.fstat(was).st_size)
        self.give(live, was)

    def give(self, live: int, was: int) -> None:
        """Owner, group, mode, lists and times."""
        shall, has, wanted = os.fstat(was), attributes(live), attributes(was)
        os.chown(itself(live), shall.st_uid, shall.st_gid)
        os.chmod(itself(live), stat.S_IMODE(shall.st_mode))
        for name in has.keys() - wanted.keys():
            os.removexattr(itself(live), name)
        for name, value in wanted.items():
            os.setxattr(itself(live), name, value)
        os.utime(itself(live), ns=(shall.st_atime_ns, shall.st_mtime_ns))

    def linked(self, name: bytes, path: bytes, here: int, then: int, live: int | None, was: int) -> None:
        """A file with several names: the first has it again as any other, the rest are names of the same."""
        shall = os.fstat(was)
        first = self.first.get(shall.st_ino)
        if first is None:
            self.claimed.add(self.back(name, path, here, then, live, was))
            self.first[shall.st_ino] = path
            return
        above = self.way(first.rpartition(b"/")[0])
        try:
            same = os.stat(first.rpartition(b"/")[2], dir_fd=above, follow_symlinks=False)
            if same.st_ino not in self.claimed:
                raise OSError(errno.ESTALE, "somebody put something else in the place of its other name")
            if live is not None:
                if os.fstat(live).st_ino == same.st_ino:
                    return
                self.count("changed", path, os.fstat(live))
                os.unlink(name, dir_fd=here)
            os.link(first.rpartition(b"/")[2], name, src_dir_fd=above, dst_dir_fd=here, follow_symlinks=False)
        finally:
            os.close(above)

    def way(self, path: bytes) -> int:
        """A folder of the dataset, by its path there."""
        return down(os.dup(self.top), path)

    def elsewhere(self, found: os.stat_result) -> bool:
        """Whether a thing of the snapshot only stands where another dataset lay."""
        return found.st_dev != self.was_device or (stat.S_ISDIR(found.st_mode) and found.st_ino == STUB)


def down(here: int, path: bytes) -> int:
    """From an open folder, which is closed, to one in it. Raises OSError where it is not there, or a link is on the way."""
    for name in (name for name in path.split(b"/") if name):
        above, here = here, os.open(name, THING | os.O_DIRECTORY, dir_fd=here)
        os.close(above)
    return here


def folder(path: bytes) -> int:
    return down(os.open(b"/", THING | os.O_DIRECTORY), path)


def snapshot(path: bytes) -> int:
    """The folder where one can be read: in one of root's, in which nobody else can put anything."""
    above, _, name = path.rpartition(b"/")
    fd = folder(above)
    found = os.fstat(fd)
    if found.st_uid != 0 or found.st_mode & 0o022:
        raise SystemExit(f"others may write in {os.fsdecode(above)}: what is in it need not be a snapshot")
    then = os.open(name, THING | os.O_DIRECTORY, dir_fd=fd)
    os.close(fd)
    return then


def known(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


def main() -> None:
    does = sys.argv[1]
    top, then = folder(os.fsencode(sys.argv[2])), snapshot(os.fsencode(sys.argv[3]))
    sys.setrecursionlimit(20_000)
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
    everything = sorted({*listed(top), *listed(then)})
    if does == "names":
        sys.stdout.buffer.write(b"".join(name + b"\0" for name in everything))
        return
    at_once = does in ("away", "links")
    asked = everything if at_once else [name for name in sys.stdin.buffer.read().split(b"\0") if name]
    going = Going(does, top, then)
    for name in asked:
        if name == b".":
            going.own(b"", top, then)
        else:
            going.thing(name, name, top, then)
    if does == "away":
        os.sync()  # only then the room counts as free
    people = {known(uid): number for uid, number in going.people.items()}
    going.some.sort(key=lambda one: one[0] != "left")
    print(json.dumps({**going.counts, "people": people, "latest": going.latest, "some": going.some[:SOME]}))


if __name__ == "__main__":
    main()
