"""Runs on the host, under its own Python: gives what one account owns below some folders to another, and nothing else.

Each thing is opened first, no link followed (open(2), O_NOFOLLOW), looked at, and then given through what was opened, since whoever may write
there may put something else in its place at any time. Links, files with a second name (they may belong elsewhere) and other file systems are
left alone. Arguments: the number whose it is, the one whose it shall be, and the folders. Output: the paths that were given, a zero byte
after each; then how many of that account's were left.
"""

import os
import stat
import sys

THING = os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC


def opened(path: bytes) -> int:
    """A folder. Raises OSError where it is not there, or a link is on the way."""
    here = os.open(b"/", THING | os.O_DIRECTORY)
    for name in (name for name in path.split(b"/") if name):
        above, here = here, os.open(name, THING | os.O_DIRECTORY, dir_fd=here)
        os.close(above)
    return here


def give(name: bytes, above: int, was: int, now: int, device: int) -> str:
    """What became of a thing: given, left, or (nothing) not whom it was asked for."""
    try:
        fd = os.open(name, THING, dir_fd=above)
    except OSError:  # it is not there any more
        return ""
    try:
        found = os.fstat(fd)
        if found.st_uid != was or found.st_dev != device:
            return ""
        if not (stat.S_ISDIR(found.st_mode) or (stat.S_ISREG(found.st_mode) and found.st_nlink == 1)):
            return "left"
        os.chown(f"/proc/self/fd/{fd}", now, -1)
        return "given"
    finally:
        os.close(fd)


def main() -> None:
    was, now, left = int(sys.argv[1]), int(sys.argv[2]), 0
    for top in map(os.fsencode, sys.argv[3:]):
        fd = opened(top)
        device = os.fstat(fd).st_dev
        if give(b".", fd, was, now, device) == "given":
            sys.stdout.buffer.write(top + b"\0")
        for path, folders, files, here in os.fwalk(b".", dir_fd=fd):
            folders[:] = [one for one in folders if os.stat(one, dir_fd=here, follow_symlinks=False).st_dev == device]
            for name in (*folders, *files):
                became = give(name, here, was, now, device)
                left += became == "left"
                if became == "given":
                    sys.stdout.buffer.write(os.path.normpath(os.path.join(top, path, name)) + b"\0")
        os.close(fd)
    print(left)


if __name__ == "__main__":
    main()
