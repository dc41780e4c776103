"""Runs on the host, under its own Python: asks the host's NFS server what people may do in folders, as their clients would ask.

NFS version 4 by the protocol itself (RFC 7530, over RPC, RFC 5531), so that nothing is mounted and nothing made: from the root down to a
folder (LOOKUP), the names in it (READDIR), and what may be done there (ACCESS). Whoever asks claims numbers (AUTH_SYS, RFC 5531 appendix A):
those that the host itself has for an account. It is asked from one of the host's own addresses, to the same address, and from a port that only
root has, so that the server takes it for a client of that address.

Argument: what to ask, as JSON: account, address, and folders as the server exports them, the top first. Output: for each of these whether the names in it can be listed
and whether something can be added to it, or null where the first is refused; as JSON.
"""

import json
import os
import pwd
import socket
import struct
import sys
import time
from collections.abc import Sequence
from itertools import count

ACCESS, LOOKUP, PUTROOTFH, READDIR = 3, 15, 24, 26
EXTEND = 0x8  # of what ACCESS asks for: add to the folder (RFC 7530 section 16.1)
RDATTR_ERROR = 1 << 11  # with it, a name that may be read is told even where nothing of it may be (section 5.8.1.12)
OK, PERM, NOENT, ACCES, DELAY, WRONGSEC = 0, 1, 2, 13, 10008, 10016
REFUSED = {PERM, NOENT, ACCES, WRONGSEC}
CLAIMED = 16  # groups beside the primary one
PATIENCE = 20.0  # seconds
NUMBERS = count(1)
Credential = tuple[int, int, Sequence[int]]
"""uid, gid, and the other groups' numbers."""


def opaque(data: bytes) -> bytes:
    """Bytes as RPC has them (XDR, RFC 4506 section 4.10)."""
    return struct.pack(">I", len(data)) + data + b"\0" * (-len(data) % 4)


class Reply:
    """What a server said, read from the front."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def number(self) -> int:
        (found,) = struct.unpack_from(">I", self.data, self.at)
        self.at += 4
        return int(found)

    def opaque(self) -> bytes:
        size = self.number()
        found = self.data[self.at : self.at + size]
        self.at += size + -size % 4
        return found


class Wire:
    """A connection to an NFS server, from and to one address. Raises SystemExit, in words, where there is none."""

    def __init__(self, server: str, source: str = "") -> None:
        family = socket.AF_INET6 if ":" in server else socket.AF_INET
        why = "no port that only root has is free"
        for port in range(1023, 600, -1):
            wire = socket.socket(family)
            wire.settimeout(PATIENCE)
            wire.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                wire.bind((source, port))
                wire.connect((server, 2049))
            except OSError as error:
                wire.close()
                why = error.strerror or str(error)
                if isinstance(error, ConnectionRefusedError | TimeoutError):
                    break
                continue
            self.wire = wire
            return
        raise SystemExit(f"the NFS server does not answer at {server}: {why}")

    def ask(self, claim: Credential, acts: Sequence[bytes]) -> tuple[int, Reply]:
        """COMPOUND (RFC 7530 section 16.2): its status, and the answer from the results of the acts on. Asked again while the server wants time."""
        end = time.monotonic() + PATIENCE
        while True:
            answer = self._ask(claim, acts)
            status = answer.number()
            answer.opaque()  # the tag
            answer.number()  # how many acts were done
            if status != DELAY or time.monotonic() > end:
                return status, answer
            time.sleep(0.1)

    def _ask(self, claim: Credential, acts: Sequence[bytes]) -> Reply:
        uid, gid, gids = claim
        credential = struct.pack(">I", 0) + opaque(b"") + struct.pack(f">III{len(gids)}I", uid, gid, len(gids), *gids)
        call = struct.pack(">IIIIII", next(NUMBERS), 0, 2, 100003, 4, 1)  # RPC 2, program, version, COMPOUND
        call += struct.pack(">I", 1) + opaque(credential) + struct.pack(">I", 0) + opaque(b"")
        call += opaque(b"") + struct.pack(">II", 0, len(acts)) + b"".join(acts)
        self.wire.sendall(struct.pack(">I", 0x80000000 | len(call)) + call)
        said, last = b"", False
        while not last:
            (size,) = struct.unpack(">I", self._read(4))
            last = bool(size & 0x80000000)
            said += self._read(size & 0x7FFFFFFF)
        answer = Reply(said)
        _, is_reply, denied = answer.number(), answer.number(), answer.number()
        if not is_reply or denied:
            raise SystemExit("the NFS server refuses the call")
        answer.number(), answer.opaque()  # its own credential
        if answer.number():
            raise SystemExit("the NFS server does not know NFS version 4")
        return answer

    def _read(self, size: int) -> bytes:
        found = b""
        while len(found) < size:
            some = self.wire.recv(size - len(found))
            if not some:
                raise SystemExit("the NFS server ended the connection")
            found += some
        return found


def way(folder: str) -> list[bytes]:
    """From the root down to a folder."""
    names = [os.fsencode(name) for name in folder.split("/") if name]
    return [struct.pack(">I", PUTROOTFH), *(struct.pack(">I", LOOKUP) + opaque(name) for name in names)]


def listing(cookie: int = 0) -> bytes:
    return struct.pack(">IQQIIII", READDIR, cookie, 0, 8192, 8192, 1, RDATTR_ERROR)


def found(wire: Wire, claim: Credential, folders: Sequence[str]) -> list[tuple[bool, bool]] | None:
    """What somebody may do in each folder: list the names, add something. None where the first is not shown to them at all."""
    answers = []
    for number, folder in enumerate(folders):
        acts = way(folder)
        status, answer = wire.ask(claim, [*acts, struct.pack(">II", ACCESS, EXTEND)])
        if status in REFUSED and number == 0:
            return None
        if status not in {OK, *REFUSED}:
            raise SystemExit(f"the NFS server answers with status {status} for {folder}")
        adds = False
        if status == OK:
            for _ in acts:
                answer.number(), answer.number()
            answer.number(), answer.number(), answer.number()  # which act, its status, what it can tell
            adds = bool(answer.number() & EXTEND)
        lists = status == OK and wire.ask(claim, [*acts, listing()])[0] == OK
        answers.append((lists, adds))
    return answers


def claim_of(account: str) -> Credential:
    """The numbers that a client sends for somebody, if it has the host's accounts: of many groups the lowest. Raises SystemExit."""
    try:
        known = pwd.getpwnam(account)
    except KeyError:
        raise SystemExit(f"the host knows no account {account}") from None
    others = sorted(set(os.getgrouplist(known.pw_name, known.pw_gid)) - {known.pw_gid})
    return known.pw_uid, known.pw_gid, others[:CLAIMED]


def main() -> None:
    asked = json.loads(sys.argv[1])
    wire = Wire(asked["address"], asked["address"])
    json.dump(found(wire, claim_of(asked["account"]), asked["folders"]), sys.stdout)


if __name__ == "__main__":
    main()
