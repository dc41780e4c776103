"""Somebody who may write in a folder, as a program: exchanges two names in it as fast as it can (renameat2(2), RENAME_EXCHANGE).

usage: attacker.py UID GID FOLDER ONE OTHER. It ends when its standard input does.
"""

import ctypes
import os
import select
import sys

EXCHANGE = 2
CWD = -100  # AT_FDCWD


def main() -> None:
    uid, gid, folder, *names = sys.argv[1:]
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
                raise SystemExit(f"cannot exchange: {os.strerror(ctypes.get_errno())}")
            for _ in range(400):
                pass


main()
