"""Security descriptors of folders: what is written reads back, and what a server wrote is understood."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yardgate.core.acl import Entry, Ordered
from yardgate.core.acl.nfs4 import FLAGS, GROUP, INHERITED, OWNER, allowed, files_of, folders_of, spelled
from yardgate.core.acl.rights import FULL
from yardgate.core.host.state import Folder
from yardgate.core.model.plan import EVERYONE
from yardgate.formats import descriptor
from yardgate.formats.reading import FormatError

NUMBERS = {"mira": 1001, "oskar": 70000, "Draughting": 3001, "root": 0}
NAMES = {f"S-1-22-1-{NUMBERS[n]}": n for n in ("mira", "oskar", "root")} | {
    f"S-1-22-2-{NUMBERS[n]}": f"@{n}" for n in ("Draughting", "root")
}
STRANGER = "S-1-5-21-1407-2211-3305-1109"
WHOS = ["mira", "oskar", "@Draughting", EVERYONE, OWNER, GROUP, STRANGER]
entries = st.builds(
    Entry,
    st.sampled_from(["allow", "deny"]),
    st.sampled_from(WHOS),
    st.integers(1, FULL),
    st.integers(0, FLAGS).flatmap(lambda flags: st.sampled_from([flags, flags | INHERITED])),
)


def blob(folder: Folder) -> bytes:
    """What the host makes of the pieces."""
    return b"".join(
        bytes.fromhex(said) if kind == "hex" else NUMBERS[said].to_bytes(4, "little")
        for kind, said in descriptor.pieces(folder)
    )


@given(st.lists(entries, max_size=12))
def test_what_is_written_reads_back(listed: list[Entry]) -> None:
    folder = Folder(name="/srv/x", owner="mira", group="Draughting", listed=Ordered(tuple(listed)))
    kept = descriptor.read(blob(folder), lambda sid: NAMES.get(sid, sid))
    assert kept == ("mira", "Draughting", folder.listed)
    assert {sid for sid in descriptor.sids(blob(folder)) if sid == STRANGER} == {
        e.who for e in listed if e.who == STRANGER
    }


@given(st.lists(entries, max_size=8), st.sampled_from(["mira", "oskar"]))
def test_owners_written_out_get_the_same_there_and_on_what_is_made(listed: list[Entry], who: str) -> None:
    """Somebody who owns the folder, or is in its group, is allowed the same; and whoever makes something in it."""
    out = spelled(listed, "mira", "@Draughting")
    names = {who, EVERYONE, "@Draughting"} | ({OWNER} if who == "mira" else set())
    assert allowed(out, names) == allowed(listed, names | {GROUP})
    made = names | {OWNER, GROUP}
    for below in (files_of, folders_of):
        assert allowed(below(out), made) == allowed(below(tuple(listed)), made)


SERVER_WROTE = {  # one list, with owner 1001 and group 3001, as an SMB server's own library packs it
    2: "02000200000002000400020" + "0" + "a" * 32 + "0100049030000000400000000000000050000000",
    3: "0300030000000200040002000100" + "a" * 128 + "0000" + "0100049064000000740000000000000084000000",
    4: "0400040000000200040002000100"
    + "a" * 128
    + "706f7369785f61636c008877665544332211"
    + "b" * 128
    + "01000490b4000000c400000000000000d4000000",
}
LIST = "010200000000001601000000e9030000010200000000001602000000b90b00000400200001000000000318"
LIST += "00a9001200010200000000001602000000b90b0000"


@pytest.mark.parametrize("version", SERVER_WROTE)
def test_every_version_that_a_server_writes_is_read(version: int) -> None:
    kept = descriptor.read(bytes.fromhex(SERVER_WROTE[version] + LIST), lambda sid: NAMES.get(sid, sid))
    assert kept == ("mira", "Draughting", Ordered((Entry("allow", "@Draughting", 0x1200A9, 3),)))


@given(st.integers(0, 400), st.sampled_from([1, 2, 3, 4]))
def test_what_is_cut_off_is_refused(length: int, version: int) -> None:
    whole = bytes.fromhex(SERVER_WROTE[version] + LIST) if version > 1 else blob(Folder(name="/", listed=Ordered()))
    with pytest.raises(FormatError):
        descriptor.read(whole[: min(length, len(whole) - 1)], str)


def test_an_entry_that_neither_allows_nor_refuses_is_refused() -> None:
    audit = bytearray(bytes.fromhex(SERVER_WROTE[2] + LIST))
    audit[-24] = 2
    with pytest.raises(FormatError, match="type 2"):
        descriptor.read(bytes(audit), str)
