"""Security identifiers, as bytes and as people write them (MS-DTYP, 2.4.2)."""

import struct


def sid_text(raw: bytes) -> str | None:
    """A SID as people write it; None where the bytes are none."""
    if raw.startswith(b"S-1-"):  # some tools write it out
        return raw.decode("ascii", "replace")
    if len(raw) < 8 or raw[0] != 1 or len(raw) != 8 + 4 * raw[1]:
        return None
    parts = struct.unpack(f"<{raw[1]}I", raw[8:])
    return "-".join(map(str, ("S-1", int.from_bytes(raw[2:8], "big"), *parts)))


def sid_bytes(text: str) -> bytes:
    """The bytes of a SID."""
    _, _, authority, *parts = text.split("-")
    return bytes((1, len(parts))) + int(authority).to_bytes(6, "big") + struct.pack(f"<{len(parts)}I", *map(int, parts))
