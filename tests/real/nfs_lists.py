"""What an NFS server of version 4 says of lists, asked by the protocol itself: COMPOUND (RFC 7530, 16.2) over RPC (RFC 5531)."""

import socket
import struct
from itertools import count

PUTROOTFH, LOOKUP, GETATTR = 24, 15, 9
ACL = 12  # the number of the attribute (RFC 7530, 5.8)
KINDS, FLAGS = "ADUL", "fdniSFg"  # nfs4_acl(5), in the order of the numbers of RFC 7530, 6.2.1
LETTERS = {
    0x1: "r", 0x2: "w", 0x4: "a", 0x8: "n", 0x10: "N", 0x20: "x", 0x40: "D", 0x80: "t", 0x100: "T", 0x10000: "d", 0x20000: "c", 0x40000: "C",
    0x80000: "o", 0x100000: "y",
}  # fmt: skip
NUMBERS = count(1)


def opaque(data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + data + b"\0" * (-len(data) % 4)


class Reader:
    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def number(self) -> int:
        (found,) = struct.unpack_from(">I", self.data, self.at)
        self.at += 4
        return found

    def opaque(self) -> bytes:
        size = self.number()
        found = self.data[self.at : self.at + size]
        self.at += size + -size % 4
        return found


def connected(server: str) -> socket.socket:
    """From a port that only root has, as servers ask for."""
    for port in range(1023, 600, -1):
        wire = socket.socket()
        wire.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            wire.bind(("", port))
            wire.connect((server, 2049))
            return wire
        except OSError:
            wire.close()
    raise SystemExit("no port is free")


def listed(wire: socket.socket, path: str) -> list[str]:
    """The entries of a folder's list, as nfs4_getfacl(1) prints them; asked as root."""
    steps = [step.encode() for step in path.split("/") if step]
    acts = [struct.pack(">I", PUTROOTFH)]
    acts += [struct.pack(">I", LOOKUP) + opaque(step) for step in steps]
    acts.append(struct.pack(">III", GETATTR, 1, 1 << ACL))
    root = struct.pack(">I", 0) + opaque(b"quay") + struct.pack(">III", 0, 0, 0)
    head = struct.pack(">IIIIII", next(NUMBERS), 0, 2, 100003, 4, 1) + struct.pack(">I", 1) + opaque(root)
    call = head + struct.pack(">II", 0, 0) + opaque(b"") + struct.pack(">II", 0, len(acts)) + b"".join(acts)
    wire.sendall(struct.pack(">I", 0x80000000 | len(call)) + call)
    said, last = b"", False
    while not last:
        (size,) = struct.unpack(">I", wire.recv(4, socket.MSG_WAITALL))
        last = bool(size & 0x80000000)
        said += wire.recv(size & 0x7FFFFFFF, socket.MSG_WAITALL)
    answer = Reader(said)
    number = answer.number
    assert [number() for _ in range(2)][1] == 1, "a reply"
    assert number() == 0, "the call was refused"
    number(), answer.opaque()
    assert number() == 0, "the program was not done"
    status = number()
    assert status == 0, f"NFS4 status {status} for {path}"
    answer.opaque(), number()
    for _ in range(1 + len(steps)):
        number(), number()
    number(), number()
    assert (number(), number()) == (1, 1 << ACL)
    return list(_entries(Reader(answer.opaque())))


def _entries(said: Reader):
    for _ in range(said.number()):
        kind, flags, mask = said.number(), said.number(), said.number()
        flag_text = "".join(
            letter for letter, bit in zip(FLAGS, (1, 2, 4, 8, 0x10, 0x20, 0x40), strict=True) if flags & bit
        )
        letters = "".join(letter for bit, letter in LETTERS.items() if mask & bit)
        yield f"{KINDS[kind]}:{flag_text}:{said.opaque().decode()}:{letters}"
