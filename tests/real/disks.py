"""Real file systems with datasets on a host of the tests: btrfs on a loop device, and ZFS by its implementation in user space."""

from collections.abc import Iterator
from contextlib import contextmanager

from tests.real.host import Host

# Given the pools' folders. What ZFS keeps of its pools would else be the machine's, and be there for the next host.
MAKE = """set -e
mkdir -p /srv/.disks "$1" "$2"; mount -t tmpfs tmpfs /srv/.disks
truncate -s 300M /srv/.disks/b; mkfs.btrfs -q /srv/.disks/b > /dev/null 2>&1; mount -o loop /srv/.disks/b "$1"
truncate -s 200M /srv/.disks/z; for own in /run/zfs /run/lock/zfs /var/lib/zfs; do mkdir -p $own; mount -t tmpfs tmpfs $own; done
(setsid zfs-fuse --no-daemon > /dev/null 2>&1 < /dev/null &)
for n in $(seq 100); do zpool list > /dev/null 2>&1 && break; sleep 0.1; done
zpool create -m "$2" "$(basename "$2")" /srv/.disks/z 2> /dev/null"""
END = """zpool export "$(basename "$2")"; umount "$1" """


@contextmanager
def disks(at: Host, btrfs: str, zfs: str) -> Iterator[None]:
    """Two pools on a host, by their paths."""
    code, out, err = at.ask("run", argv=["sh", "-c", MAKE, "sh", btrfs, zfs], given=None)
    assert code == 0, out + err
    try:
        yield
    finally:
        at.ask("run", argv=["sh", "-c", END, "sh", btrfs, zfs], given=None)
