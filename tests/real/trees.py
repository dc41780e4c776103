"""Runs on a host of the tests: makes a random tree of files, does at random what people and programs do to one, or lists it to the last bit.

Arguments: what to do, the folder, a seed.
"""

import hashlib
import json
import os
import random
import stat
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress

PEOPLE = (0, 4001, 4002)


def under(top: str) -> Iterator[str]:
    for here, folders, files in os.walk(top):
        folders[:] = sorted(one for one in folders if os.lstat(os.path.join(here, one)).st_dev == os.lstat(top).st_dev)
        yield from (os.path.join(here, one) for one in (*folders, *sorted(files)))


def listing(top: str) -> dict[str, dict[str, object]]:
    """Everything that a person or a program could tell of each thing; of files with several names, which have the same."""
    names: dict[int, str] = {}
    found: dict[str, dict[str, object]] = {}
    for path in [top, *sorted(under(top))]:
        one = os.lstat(path)
        link, plain = stat.S_ISLNK(one.st_mode), stat.S_ISREG(one.st_mode)
        holds: object = one.st_rdev
        if plain:
            with open(path, "rb") as file:
                holds = hashlib.sha256(file.read()).hexdigest()
        kept = {}
        with suppress(OSError):
            kept = {
                name: os.getxattr(path, name, follow_symlinks=False).hex()
                for name in os.listxattr(path, follow_symlinks=False)
            }
        same = names.setdefault(one.st_ino, path) if one.st_nlink > 1 and not stat.S_ISDIR(one.st_mode) else path
        found[os.path.relpath(path, top)] = {
            "kind": stat.S_IFMT(one.st_mode),
            "rights": [0 if link else stat.S_IMODE(one.st_mode), one.st_uid, one.st_gid, kept],
            "written": [one.st_size, one.st_mtime_ns] if plain else os.readlink(path) if link else 0,
            "time": one.st_mtime_ns,
            "holds": holds,
            "same": os.path.relpath(same, top),
        }
    return found


def some(rng: random.Random, top: str, *, folders: bool = False) -> str:
    there = [path for path in sorted(under(top)) if not folders or (os.path.isdir(path) and not os.path.islink(path))]
    return rng.choice([*there, top] if folders or not there else there)


def make(rng: random.Random, path: str) -> None:
    kind = rng.random()
    if kind < 0.25:
        os.mkdir(path)
    elif kind < 0.32:
        os.symlink(rng.choice(["/etc/passwd", "..", "nowhere", "a"]), path)
    elif kind < 0.36:
        os.mkfifo(path)
    else:
        with open(path, "xb") as file:
            file.write(rng.randbytes(rng.choice([0, 10, 5000, 70_000])))
            if rng.random() < 0.1:
                file.truncate(3 << 20)  # with a hole
    with suppress(OSError):
        os.chown(path, rng.choice(PEOPLE), rng.choice(PEOPLE), follow_symlinks=False)


def name(rng: random.Random) -> str:
    return rng.choice(["a", "b", "plan.pdf", "offer 7", "é", "x\udcff", "-n", "new\nline"]) + str(rng.randrange(6))


def act(rng: random.Random, top: str, acl: bool) -> None:
    path = some(rng, top)
    other = os.path.join(some(rng, top, folders=True), name(rng))
    match rng.randrange(12):
        case 0 | 1:
            make(rng, other)
        case 2:
            (os.rmdir if os.path.isdir(path) and not os.path.islink(path) else os.unlink)(path)
        case 3:
            subprocess.run(["rm", "-rf", "--one-file-system", "--", path], check=True)
        case 4 | 5:
            os.rename(path, other)
        case 6:
            os.link(path, other, follow_symlinks=False)
        case 7 if os.path.isfile(path) and not os.path.islink(path):
            with open(path, "r+b") as file:  # as a program that gives a file its old time back, and leaves its size
                was = os.stat(path)
                file.write(rng.randbytes(min(was.st_size, 8)))
            os.utime(path, ns=(was.st_atime_ns, was.st_mtime_ns))
        case 8 if os.path.isfile(path) and not os.path.islink(path):
            with open(path, "ab") as file:
                file.write(b"more")
        case 9 if not os.path.islink(path):
            os.chmod(path, rng.choice([0o600, 0o755, 0o2770, 0o1777, 0o4711]))
        case 10:
            os.chown(path, rng.choice(PEOPLE), rng.choice(PEOPLE), follow_symlinks=False)
        case _ if acl and (os.path.isdir(path) or os.path.isfile(path)) and not os.path.islink(path):
            entries = f"u:{rng.choice(PEOPLE)}:{rng.choice(['r', 'rwx'])}"
            more = [f"d:{entries}"] if os.path.isdir(path) and rng.random() < 0.5 else []
            subprocess.run(["setfacl", "-m", ",".join([entries, *more]), "--", path], check=True)
            os.setxattr(path, "user.note", rng.randbytes(4))


def main() -> None:
    does, top, seed, acl = sys.argv[1], sys.argv[2], int(sys.argv[3]), sys.argv[4] == "acl"
    if does == "list":
        print(json.dumps(listing(top)))
        return
    rng = random.Random(seed)
    for _ in range(80 if does == "make" else rng.choice([5, 20, 80])):
        with suppress(OSError):
            if does == "change" or rng.random() < 0.4:
                act(rng, top, acl)
            else:
                make(rng, os.path.join(some(rng, top, folders=True), name(rng)))


if __name__ == "__main__":
    main()
