"""Lists as text: in and out, and what is refused, with line and column."""

import json
from dataclasses import replace

import pytest

from yardgate.core.acl import Entry, Mode, Ordered, Posix, PosixEntry
from yardgate.core.acl.rights import READ, WRITE
from yardgate.core.edits.apply import apply
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import EVERYONE, Plan
from yardgate.formats import list_text, listing, planfile
from yardgate.formats.reading import FormatError, decode

GETFACL = """# file: slip
# owner: root
# group: Yard
user::rwx
group::r-x
other::---

# file: slip/two\\040words
# owner: mira.oyelaran
# group: Yard
# flags: -s-
user::rwx
user:mira.oyelaran:rwx\t#effective:r-x
group::r-x
mask::r-x
other::---
default:user::rwx
default:group::r-x
default:other::---
"""
NFS4 = """# file: slip
A::OWNER@:rwaDxtTnNcCoy
A:g:Yard@quay.example:rxtncy

# file: slip/inner
D:g:Apprentices:rwa
A:fdg:Draughting:RWX
U:SF:EVERYONE@:rw
A:fdi:mira.oyelaran@quay.example:rxtncy
"""


def test_a_getfacl_listing_becomes_places(quay: Plan) -> None:
    plan, _ = apply(quay, listing.read(quay, GETFACL, "posix").edits)
    new = next(place for place in plan.places.values() if place.name == "two words")
    assert (new.owner, new.group, new.inheritance_stops) == ("mira-oyelaran", None, True)
    assert isinstance(new.acl, Posix)
    assert new.acl.setgid
    assert PosixEntry("user", "mira-oyelaran", 7) in new.acl.access
    assert check(plan) == ()


def test_an_nfs4_listing_becomes_places_and_goes_out_again(quay: Plan) -> None:
    plan, _ = apply(quay, listing.read(quay, NFS4, "ordered").edits)
    pool = next(place for place in plan.places.values() if place.name == "slip")
    inner = next(place for place in plan.places.values() if place.parent == pool.id)
    assert isinstance(inner.acl, Ordered)
    assert [(e.type, e.who, e.flags) for e in inner.acl.entries] == [
        ("deny", "apprentices", 0),
        ("allow", "draughting", 3),
        ("allow", "mira-oyelaran", 11),
    ]
    assert list_text.write_nfs4(plan, pool.id) == (
        "# file: slip\nA::OWNER@:rwaDxtTnNcCoy\nA:g:Yard@quay.example:rxtncy\n\n"
        "# file: slip/inner\nD:g:Apprentices@quay.example:rwa\nA:fdg:Draughting@quay.example:rwaDxtTnNcCy\nA:fdi:mira.oyelaran@quay.example:rxtncy\n"
    )


def test_a_pool_of_that_name_is_not_made_twice(quay: Plan) -> None:
    with pytest.raises(FormatError, match="has a pool “keel” already"):
        listing.read(quay, GETFACL.replace("slip", "keel"), "posix")


def test_the_topmost_folder_may_be_a_place_of_the_plan(quay: Plan) -> None:
    text = GETFACL.replace("slip", "hulls").replace("two\\040words", "curlew-31")
    plan, _ = apply(quay, listing.read(quay, text, "posix", at="hulls").edits)
    assert len(plan.places) == len(quay.places)
    assert plan.places["curlew-31"].owner == "mira-oyelaran"


@pytest.mark.parametrize(
    ("style", "text", "line", "column", "words"),
    [
        ("posix", "", 1, 1, "nothing in it"),
        ("posix", "user::rwx\n", 1, 1, "must begin with"),
        ("posix", GETFACL.split("other::")[0], 1, 1, "cut off"),
        ("ordered", "", 1, 1, "no list in it"),
        ("ordered", "A::OWNER@", 1, 1, "type:flags:who:permissions"),
        ("ordered", "A::OWNER@:rwq", 1, 13, "'q' is not a permission"),
        ("ordered", "A:fz:OWNER@:r", 1, 4, "'z' is not a flag"),
        ("ordered", "B::OWNER@:r", 1, 1, "is not a type"),
        ("ordered", "A::OWNER@:", 1, 11, "no permissions"),
        ("ordered", "A:::r", 1, 4, "nobody"),
        ("mode", "d 755 root root", 1, 1, "a record is"),
        ("mode", "d 899 root root slip", 1, 3, "not octal"),
        ("mode", "z 755 root root slip", 1, 1, "not a type of file"),
    ],
)
def test_bad_text_is_refused_with_line_and_column(
    quay: Plan, style: str, text: str, line: int, column: int, words: str
) -> None:
    with pytest.raises(FormatError, match=words) as caught:
        listing.read(quay, text, style)  # type: ignore[arg-type]
    assert (caught.value.line, caught.value.column) == (line, column)


@pytest.mark.parametrize(
    ("text", "line", "words", "folders"),
    [
        (GETFACL.replace("other::---", "othr::---", 1), 6, "'othr' is not a tag", 2),
        (GETFACL.replace("group::r-x", "group::r-z", 1), 5, "permissions are like rwx", 2),
        (GETFACL.replace("group::r-x", "group::r-x\ngroup::rwx", 1), 6, "stands twice", 2),
        (GETFACL.replace("mask::r-x\n", ""), 8, "no mask", 1),
        (GETFACL.replace("-s-", "-q-"), 11, "flags are", 1),
        (GETFACL + GETFACL.split("\n\n")[1], 20, "listed before", 2),
        (GETFACL.replace("slip/two", "other/two"), 8, "not below", 1),
        (GETFACL.replace("two\\040words", "x\\012y"), 8, "a plan can have no such names", 1),
        (f"getfacl: Removing leading '/' from absolute path names\n{GETFACL}", None, "", 2),
        (GETFACL.replace("\n", "\r\n"), None, "", 2),
    ],
)
def test_what_cannot_be_read_is_noted_and_the_rest_comes_in(
    quay: Plan, text: str, line: int | None, words: str, folders: int
) -> None:
    reading = listing.read(quay, text, "posix")
    plan, _ = apply(quay, reading.edits)
    assert check(plan) == ()
    wrong = [(note.line, note.text) for note in reading.notes if note.toward is not None]
    assert [at for at, _ in wrong] == ([] if line is None else [line])
    assert all(words in said for _, said in wrong)
    assert len(plan.places) - len(quay.places) == folders


def test_a_list_that_names_root_comes_in_as_it_is(quay: Plan) -> None:
    text = GETFACL.replace("user:mira.oyelaran", "user:root").replace("group::r-x", "group::r-x\ngroup:root:rwx", 1)
    text = text.replace("group:root:rwx", "group:root:rwx\nmask::rwx", 1)
    plan, _ = apply(quay, listing.read(quay, text, "posix").edits)
    assert check(plan) == ()
    made = [
        account for who in {*plan.users, *plan.groups} - {*quay.users, *quay.groups} if (account := plan.account(who))
    ]
    assert sorted((account.name, account.of_host) for account in made) == [("root", True), ("root", True)]
    assert "user:root:" in list_text.write_restore(plan, "slip")


def test_names_that_nobody_knows_are_kept_as_the_hosts_own_and_asked_about(quay: Plan) -> None:
    reading = listing.read(quay, GETFACL.replace("mira.oyelaran", "nobody.here"), "posix")
    assert [(u.line, u.name) for u in reading.unknown] == [(9, "nobody.here")]
    plan, _ = apply(quay, reading.edits)
    kept = next(user for user in plan.users.values() if user.name == "nobody.here")
    assert kept.of_host
    assert not kept.enabled
    assert any("whoever that is" in note.text and note.toward == "more" for note in reading.notes)
    made = listing.read(quay, GETFACL.replace("mira.oyelaran", "nobody.here"), "posix", make={"nobody.here": "person"})
    assert any(user.name == "nobody.here" for user in apply(quay, made.edits)[0].users.values())


def test_a_list_of_five_thousand_lines_comes_in_and_one_of_too_many_does_not(quay: Plan) -> None:
    long = "# file: slip\n" + "\n".join(f"{'AD'[n % 2]}:fdg:Yard:{'rw'[n % 2]}" for n in range(5000))
    plan, _ = apply(quay, listing.read(quay, long, "ordered").edits)
    assert max(len(p.acl.entries) for p in plan.places.values() if isinstance(p.acl, Ordered)) == 5000
    too_long = long + "\n" + "\n".join("A:fdg:Yard:r" for _ in range(5001))
    with pytest.raises(PlanError, match="10001 lines; at most 10000"):
        apply(quay, listing.read(quay, too_long, "ordered").edits)


def test_find_listings_with_nul_take_any_name(quay: Plan) -> None:
    text = decode(b"d 755 root root slip\0d 2770 idris.falk Yard slip/a  b\0f 640 root root slip/x\0", nul=True)
    plan, _ = apply(quay, listing.read(quay, text, "mode").edits)
    assert any(p.name == "a  b" and p.acl == Mode(0o2770) and p.group == "yard" for p in plan.places.values())


@pytest.mark.parametrize(
    ("own", "style"),
    [
        (Ordered((Entry("deny", "apprentices", READ, 3), Entry("allow", EVERYONE, WRITE, 8 | 3))), "ordered"),
        (Posix((PosixEntry("user", "mira-oyelaran", 7),), (PosixEntry("other", "", 5),)), "posix"),
        (Mode(0o2770), "mode"),
    ],
)
def test_one_list_as_text_and_back(quay: Plan, own: Ordered | Posix | Mode, style: str) -> None:
    text = list_text.list_text(quay, own)
    assert list_text.list_from_text(quay, text, style) == (own, ())  # type: ignore[arg-type]


def test_plan_files_carry_lists_in_letters(quay: Plan) -> None:
    text = planfile.write(quay)
    body = json.loads(text)
    toolpaths = next(place for place in body["places"] if place["id"] == "toolpaths")
    assert toolpaths["acl"] == {"style": "ordered"}
    nightly = next(place for place in body["places"] if place["id"] == "nightly")
    assert (nightly["acl"], nightly["inheritance_stops"]) == ({"style": "mode", "bits": "0750"}, True)
    assert planfile.read(text) == quay


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"style": "ordered", "entries": [{"type": "allow", "who": "yard", "rights": "rq"}]}, "'q'"),
        ({"style": "ordered", "entries": [{"type": "allow", "who": "yard", "rights": "r", "flags": "z"}]}, "'z'"),
        ({"style": "ordered", "entries": [{"type": "permit", "who": "yard", "rights": "r"}]}, "allow"),
        ({"style": "mode", "bits": "99"}, "pattern"),
        ({"style": "posix", "access": [{"tag": "user", "perms": "rwz"}]}, "'z'"),
        ({"style": "sets"}, "style"),
    ],
)
def test_a_plan_file_with_a_bad_list_is_refused(quay: Plan, change: object, words: str) -> None:
    body = json.loads(planfile.write(quay))
    next(place for place in body["places"] if place["id"] == "toolpaths")["acl"] = change
    with pytest.raises(FormatError, match=words):
        planfile.read(json.dumps(body))


@pytest.mark.parametrize(
    ("own", "words"),
    [
        (Ordered((Entry("allow", "gone", READ),)), "names “gone”"),
        (Ordered((Entry("allow", "yard", 1 << 30),)), "rights 0x40000000"),
        (Ordered((Entry("allow", "yard", 0),)), "one at least"),
        (Ordered((Entry("allow", "yard", READ, 0x80),)), "flags 0x80"),
        (Posix((PosixEntry("user", "yard", 7),)), "not a user of this plan"),
        (Posix((PosixEntry("group", "yard", 9),)), "from 0 to 7"),
        (Posix((PosixEntry("group", "yard", 7), PosixEntry("group", "yard", 5))), "a second time"),
        (Mode(0o10000), "outside 0 to 7777"),
    ],
)
def test_lists_that_no_plan_may_have(quay: Plan, own: Ordered | Posix | Mode, words: str) -> None:
    plan = replace(quay, places={**quay.places, "toolpaths": replace(quay.places["toolpaths"], acl=own)})
    assert any(words in trouble.message for trouble in check(plan)), [t.message for t in check(plan)]


def test_a_loop_of_places_is_refused_however_it_is_listed(quay: Plan) -> None:
    body = json.loads(planfile.write(quay))
    next(place for place in body["places"] if place["id"] == "curlew-31")["parent"] = "petrel-9"
    next(place for place in body["places"] if place["id"] == "petrel-9")["parent"] = "curlew-31"
    with pytest.raises(PlanError, match="lies inside itself"):
        planfile.read(json.dumps(body))
