"""Each list style by example, as its standard has it."""

from dataclasses import replace

import pytest

from tests.conftest import ON
from yardgate.core.access.bitsets import count
from yardgate.core.access.forecast import make, rights_to
from yardgate.core.access.membership import token
from yardgate.core.access.spec.explain import explain
from yardgate.core.access.storage import rights_on, storage_state
from yardgate.core.acl import Entry, Mode, Ordered, Posix, PosixEntry, mode, nfs4, posix, words
from yardgate.core.acl.nfs4 import EVERYTHING_BELOW, GROUP, INHERITED, OWNER
from yardgate.core.acl.rights import (
    APART,
    APPEND_DATA,
    CHANGE,
    DELETE_CHILD,
    EDITS,
    EXECUTE,
    FULL,
    LETTERS,
    PASS,
    READ,
    READ_ACL,
    READ_DATA,
    WRITE,
    WRITE_ACL,
    WRITE_DATA,
    Level,
    Rights,
    letters,
    level,
    odd,
)
from yardgate.core.model.plan import EVERYONE, Plan

A, D = "allow", "deny"


@pytest.mark.parametrize(
    ("rights", "expected", "is_odd"),
    [
        (Rights(WRITE, WRITE), Level.RW, False),
        (Rights(READ, READ), Level.RO, False),
        (Rights(PASS, 0), Level.PT, False),
        (Rights(0, 0), Level.NA, False),
        (Rights(READ | 0x6, READ), Level.RO, True),  # adds, but does not delete
        (Rights(READ, READ | WRITE_DATA), Level.RO, True),  # writes a file that is there
        (Rights(READ, READ | APPEND_DATA), Level.RO, True),
        (Rights(PASS, READ_DATA), Level.PT, True),  # reads a file that somebody names
        (Rights(READ_DATA, 0), Level.NA, True),  # lists, but does not enter
        (Rights(WRITE, WRITE | APART), Level.RO, True),  # reads and writes, but not in one opening
        (Rights(READ & ~EXECUTE, READ), Level.NA, True),  # reads, but does not enter
        (Rights(WRITE & ~DELETE_CHILD, WRITE), Level.RW, False),  # deletes by the right on the file
    ],
)
def test_levels_from_rights(rights: Rights, expected: Level, is_odd: bool) -> None:
    assert (level(rights), odd(rights)) == (expected, is_odd)


def test_rights_in_letters_and_words() -> None:
    assert letters(FULL) == "rwaDdxtTnNcCoy"
    assert words.rights(READ) == "read-only"
    assert words.rights(WRITE_ACL | READ_DATA) == "reading files and listing folders + changing the list"
    assert words.rights(READ | DELETE_CHILD) == "read-only + deleting what is inside"
    assert words.rights(READ | WRITE_DATA | 0x4 | DELETE_CHILD) == "read-only + waD"
    assert (words.rights(0), words.rights(CHANGE)) == ("nothing", "changing")


def test_flags_and_permissions_in_words() -> None:
    assert [words.where(flags) for flags in (3, 0, 9, 0x80 | 3)] == [
        "this and everything below",
        "this folder only",
        "files below",
        "this and everything below",
    ]
    assert words.where(5) == "this folder, files, one level down"
    assert words.where(8) == "nowhere"
    assert [words.rwx(perms) for perms in (7, 5, 1, 0)] == ["rwx", "r-x", "--x", "---"]


def test_the_first_entry_that_names_somebody_and_a_right_decides_that_right() -> None:
    entries = (
        Entry(D, "g", WRITE_DATA),
        Entry(A, "u", READ | WRITE_DATA),
        Entry(D, EVERYONE, FULL),
        Entry(A, "u", FULL),
    )
    assert nfs4.allowed(entries, {"u", "g", EVERYONE}) == READ
    assert nfs4.decided(entries, {"u", "g", EVERYONE})[3] == 0
    assert nfs4.allowed(entries, {"u", EVERYONE}) == READ | WRITE_DATA


def test_everyone_includes_the_owner_and_the_owner_keeps_the_list() -> None:
    entries = (Entry(D, EVERYONE, FULL), Entry(A, OWNER, FULL))
    assert nfs4.allowed(entries, {"u", OWNER, EVERYONE}) == READ_ACL | WRITE_ACL
    assert nfs4.allowed((Entry(A, GROUP, READ),), {"u", "g", GROUP}) == READ


@pytest.mark.parametrize(
    ("flags", "folder", "file"),
    [
        (0, None, None),
        (3, 3 | INHERITED, INHERITED),
        (1, 1 | 8 | INHERITED, INHERITED),  # files only: passes folders on its way
        (2, 2 | INHERITED, None),
        (3 | 8, 3 | INHERITED, INHERITED),  # not here, but below
        (3 | 4, INHERITED, INHERITED),  # one level only
        (1 | 4, None, INHERITED),
        (2 | 4 | 8, INHERITED, None),
    ],
)
def test_where_an_entry_comes_down(flags: int, folder: int | None, file: int | None) -> None:
    entry = Entry(A, "u", READ, flags)
    on_folder, on_file = nfs4.on_folder(entry), nfs4.on_file(entry)
    assert (on_folder and on_folder.flags, on_file and on_file.flags) == (folder, file)


def entries(text: str) -> tuple[PosixEntry, ...]:
    """user::7 group:g:5 … as a list."""
    return tuple(PosixEntry(*part.split(":")[:2], int(part.split(":")[2])) for part in text.split())  # type: ignore[arg-type]


def perms(text: str, names: set[str], owner: bool = False, in_group: bool = False) -> list[int]:
    return sorted(entry.perms for entry in posix.matching(entries(text), names, owner, in_group))


def test_posix_entries_in_the_order_of_acl_5() -> None:
    text = "user::6 user:u:7 group::4 group:g:1 mask::5 other::2"
    assert perms(text, {"u", "g"}, owner=True) == [6], "the owner's entry, which no mask limits"
    assert perms(text, {"u", "g"}) == [5], "a named user's, masked, whatever their groups say"
    assert perms(text, {"v", "g"}, in_group=True) == [1, 4], "all groups that match"
    assert perms(text, {"v"}) == [2], "others, unmasked"


def test_one_group_entry_must_hold_all_that_is_asked_for() -> None:
    found = posix.matching(
        entries("user::7 group::0 group:g:4 group:h:2 mask::7 other::7"), {"u", "g", "h"}, False, False
    )
    assert posix.permits(found, 4)
    assert posix.permits(found, 2)
    assert not posix.permits(found, 6)
    assert posix.rights_on_file(found, owner=False) & (EDITS | APART) == EDITS | APART


def test_with_an_empty_mask_linux_takes_those_named_for_others() -> None:
    text = "user::7 user:u:7 group::7 mask::0 other::5"
    assert perms(text, {"u"}) == [5]
    assert perms(text, {"u"}, in_group=True) == [0]


def test_only_the_owner_deletes_in_a_sticky_folder() -> None:
    found = posix.matching(entries("user::7 group::7 other::7"), {"u"}, False, False)
    assert not posix.rights_on_folder(found, owner=False, sticky=True) & DELETE_CHILD
    assert posix.rights_on_folder(found, owner=True, sticky=True) & DELETE_CHILD


def test_modes_as_lists_and_back() -> None:
    for bits in range(0o1000):
        assert mode.bits_of(mode.entries_of(bits)) == bits
    assert mode.words(0o2770) == "rwxrws---"
    assert mode.words(0o1777) == "rwxrwxrwt"


def test_what_is_made_takes_the_default_list_limited_by_the_mode_asked_for() -> None:
    default = entries("user::7 user:u:7 group::5 mask::7 other::5")
    assert posix.created(default, 0o640) == entries("user::6 user:u:7 group::5 mask::4 other::0")
    assert posix.created(entries("user::7 group::7 other::7"), 0o666) == entries("user::6 group::6 other::6")


@pytest.mark.parametrize(
    ("perms", "owner", "given"),
    [
        (0, False, "tcy"),
        (0, True, "tTcCy"),
        (posix.R, False, "rtncy"),
        (posix.W, False, "watTNcy"),
        (posix.X, False, "xtcy"),
        (posix.R | posix.W, False, "rwatTnNcy"),
    ],
)
def test_what_permissions_are_as_rights_on_a_file(perms: int, owner: bool, given: str) -> None:
    found = posix.rights_on_file((PosixEntry("other", "", perms),), owner)
    assert found == sum(LETTERS[letter] for letter in given), letters(found)


@pytest.mark.parametrize(
    ("perms", "owner", "given"),
    [(posix.W, False, "tTNcy"), (posix.X, False, "xtcy"), (posix.W | posix.X, True, "waDxtTNcCy")],
)
def test_what_permissions_are_as_rights_on_a_folder(perms: int, owner: bool, given: str) -> None:
    """Writing a folder without entering it adds and deletes nothing."""
    found = posix.rights_on_folder((PosixEntry("other", "", perms),), owner)
    assert found == sum(LETTERS[letter] for letter in given), letters(found)


def test_owner_and_group_by_name_where_they_count_and_whoever_they_are_below() -> None:
    only_below = nfs4.INHERIT_ONLY | EVERYTHING_BELOW
    listed = (
        Entry(A, OWNER, READ),
        Entry(D, GROUP, WRITE, 0),
        Entry(A, OWNER, FULL, only_below),
        Entry(A, GROUP, READ, nfs4.FILE_INHERIT | INHERITED),
        Entry(A, "v", READ),
    )
    assert nfs4.spelled(listed, "u", "g") == (
        Entry(A, "u", READ, 0),
        Entry(A, OWNER, READ, only_below),
        Entry(D, "g", WRITE, 0),
        Entry(A, OWNER, FULL, only_below),
        Entry(A, "g", READ, INHERITED),
        Entry(A, GROUP, READ, nfs4.FILE_INHERIT | nfs4.INHERIT_ONLY | INHERITED),
        Entry(A, "v", READ),
    )


def test_an_entry_for_below_alone_decides_nothing_here() -> None:
    listed = (Entry(D, "u", READ_DATA, nfs4.INHERIT_ONLY | EVERYTHING_BELOW), Entry(A, "u", READ))
    assert nfs4.allowed(listed, {"u"}) == READ
    assert nfs4.decided(listed, {"u"}) == (0, READ)
    assert nfs4.allowed(nfs4.files_of(listed), {"u"}) == READ & ~READ_DATA
    assert nfs4.allowed(listed, {OWNER}) == READ_ACL | WRITE_ACL, "whoever owns it keeps the list"


def test_posix_lists_put_together() -> None:
    upper, lower = entries("user:u:7 group::5"), entries("user:u:0 group::0 user:v:4 mask::1 other::0")
    assert posix.merged(upper, lower) == entries("user:u:7 group::5 user:v:4 other::0")
    assert posix.merged((), lower) == lower
    assert posix.whole(entries("group:g:4 user:u:6"), 0o750) == entries(
        "user::7 user:u:6 group::5 group:g:4 mask::7 other::0"
    )
    assert posix.whole(entries("other::1"), 0o740) == entries("user::7 group::4 other::1"), "nobody is named: no mask"
    assert posix.file_in(entries("user::7 user:u:7 group::5 mask::7 other::5"), None) == entries(
        "user::6 group::4 other::4"
    )
    assert posix.file_in(entries("user::7 group::7 other::7"), entries("user::7 group::1 other::0")) == entries(
        "user::6 group::0 other::0"
    )


def test_what_a_server_tells_of_a_posix_list() -> None:
    told = entries("user::4 user:u:6 group::2 group:g:5 mask::5 other::1")
    assert posix.told(told, {"w"}, False, False) == 1
    assert posix.told(told, {"w"}, True, False) == 5, "the owner's entry is not masked"
    assert posix.told(told, {"u"}, False, False) == 5, "masked, and what others get"
    assert posix.told(told, {"w"}, False, True) == 1, "the owning group's is masked to nothing"
    assert posix.told(told, {"u", "g"}, False, False) == 5


# --- in the demo plan -------------------------------------------------------------------------------------------------


def test_a_nested_dataset_begins_with_root_and_a_folder_has_what_lies_above(quay: Plan) -> None:
    storage = storage_state(quay, count(quay, ON))
    assert (storage["drawings"].owner, storage["drawings"].group) == ("root", "root")
    assert storage["released"].owner == "root"
    assert storage["curlew-31"].group == "yard"
    assert storage["payroll"].group == "ledger"


def test_somebody_enters_a_deep_folder_without_seeing_its_neighbours(quay: Plan) -> None:
    level_of = {
        place: explain(quay, "cnc-router", place, ON).level for place in ("keel", "drawings", "toolpaths", "released")
    }
    assert level_of == {"keel": Level.PT, "drawings": Level.PT, "toolpaths": Level.RO, "released": Level.NA}
    reason = explain(quay, "cnc-router", "drawings", ON)
    assert reason.rights is not None
    assert not reason.rights.folder & READ_DATA, "may pass, but sees no names"


def test_a_reason_names_the_line_that_decides_and_the_one_that_came_too_late(quay: Plan) -> None:
    reason = explain(quay, "priya-natarajan", "toolpaths", ON)
    assert [gate.kind for gate in reason.gates] == ["account", "share", "way", "list"]
    assert [gate.kind for gate in reason.gates if gate.decides] == ["list"]
    said = {line.who: (line.says, line.verdict) for line in reason.gates[3].entries}
    assert said["apprentices"] == ("deny", "decides")
    assert said["draughting"] == ("allow", "too late")
    assert said["cnc-router"] == ("allow", "not theirs")


def test_a_blocked_way_is_the_reason(quay: Plan) -> None:
    shut = replace(quay.places["ballast"], acl=Mode(0o700))
    quay = replace(quay, places={**quay.places, "ballast": shut})
    reason = explain(quay, "henrik-vance", "backups", ON)
    assert (reason.level, reason.source, reason.granted) == (Level.NA, "way", Level.RO)
    assert "may not enter ballast" in reason.gates[2].sentence


def test_new_things_by_setgid_default_list_and_primary_group(quay: Plan) -> None:
    storage = storage_state(quay, count(quay, ON))
    made = make(quay, storage["curlew-31"], "gwen-castellan", "file", 0o666)
    assert (made.owner, made.group) == ("gwen-castellan", "yard"), "setgid came down from hulls"
    idris = token(quay, "idris-falk")
    assert rights_to(quay, made, "idris-falk", idris) & EDITS == EDITS
    folder = make(quay, storage["vm-images"], "imke-brouwer", "folder", 0o777)
    assert (folder.group, mode.bits_of(folder.access), folder.setgid) == ("machines", 0o755, True)
    alone = replace(quay, users={**quay.users, "imke-brouwer": replace(quay.users["imke-brouwer"], primary_group=None)})
    own = make(alone, storage_state(alone, count(alone, ON))["toolpaths"], "imke-brouwer", "file", 0o666)
    assert own.group == "imke-brouwer", "a group of their own, as the host makes it"
    ordered_file = make(quay, storage["toolpaths"], "mira-oyelaran", "file", 0o666)
    assert ordered_file.group == "draughting"
    assert all(entry.flags == INHERITED for entry in ordered_file.entries)


def test_places_follow_add_or_cut(quay: Plan) -> None:
    own = Ordered((Entry(A, "draughting", READ, EVERYTHING_BELOW),))
    place = quay.places["released"]
    assert place.inheritance == "follows"
    assert replace(place, acl=own).inheritance == "adds"
    assert replace(place, acl=own, inheritance_stops=True).inheritance == "stops"
    assert replace(place, acl=Ordered()).inheritance == "follows", "a list without lines adds nothing"
    assert replace(place, acl=Mode(0o750)).inheritance == "adds"
    assert replace(place, acl=Posix()).inheritance == "follows"


def test_root_passes_every_list_but_not_the_share(quay: Plan) -> None:
    root = replace(quay.users["oskar-dahl"], uid=0)
    plan = replace(quay, users={**quay.users, "oskar-dahl": root})
    storage = storage_state(plan, count(plan, ON))
    assert rights_on(plan, storage["nightly"], "oskar-dahl", {"oskar-dahl"}).folder == FULL
    assert explain(plan, "oskar-dahl", "nightly", ON).level == Level.RW
    assert explain(plan, "oskar-dahl", "vm-images", ON).level == Level.NA, "the share says nothing to them"
