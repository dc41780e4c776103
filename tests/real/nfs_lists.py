"""What an NFS server of version 4 says of lists, asked by the protocol itself."""

import struct

from nfs_visit import Reply, Wire, way

GETATTR = 9
ACL = 12  # the number of the attribute (RFC 7530, 5.8)
KINDS, FLAGS = "ADUL", "fdniSFg"  # nfs4_acl(5), in the order of the numbers of RFC 7530, 6.2.1
LETTERS = {
    0x1: "r", 0x2: "w", 0x4: "a", 0x8: "n", 0x10: "N", 0x20: "x", 0x40: "D", 0x80: "t", 0x100: "T", 0x10000: "d", 0x20000: "c", 0x40000: "C",
    0x80000: "o", 0x100000: "y",
}  # fmt: skip


def listed(wire: Wire, path: str) -> list[str]:
    """The entries of a folder's list, as nfs4_getfacl(1) prints them; asked as root."""
    acts = way(path)
    status, answer = wire.ask((0, 0, ()), [*acts, struct.pack(">III", GETATTR, 1, 1 << ACL)])
    assert status == 0, f"NFS4 status {status} for {path}"
    for _ in range(1 + len(acts)):
        answer.number(), answer.number()
    assert (answer.number(), answer.number()) == (1, 1 << ACL)
    return list(_entries(Reply(answer.opaque())))


def _entries(said: Reply):
    for _ in range(said.number()):
        kind, flags, mask = said.number(), said.number(), said.number()
        flag_text = "".join(
            letter for letter, bit in zip(FLAGS, (1, 2, 4, 8, 0x10, 0x20, 0x40), strict=True) if flags & bit
        )
        letters = "".join(letter for bit, letter in LETTERS.items() if mask & bit)
        yield f"{KINDS[kind]}:{flag_text}:{said.opaque().decode()}:{letters}"
