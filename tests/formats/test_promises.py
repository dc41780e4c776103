"""Promises as sentences and as tables."""

from dataclasses import replace

import pytest
from hypothesis import given, settings

from tests.plans import plans
from tests.tries import times
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import promised
from yardgate.core.edits.records import PutPromise
from yardgate.core.model.plan import EVERYONE, GUEST, Group, Plan
from yardgate.formats import promises
from yardgate.formats.reading import FormatError


def test_sentences_as_people_write_them(quay: Plan) -> None:
    for text, words in {
        "everybody but Ledger, Directors and night-backup must not read payroll.": (
            "Everyone but Directors, Ledger and night-backup must not be able to read keel/office/payroll"
        ),
        "  Priya  Natarajan must be able to  write toolpaths over NFS": (
            "Priya Natarajan must be able to write keel/drawings/toolpaths over NFS"
        ),
        "GUESTS MUST NOT SEE office": "Guest must not be able to see keel/office",
        "nobody but Ledger can read payroll": "Everyone but Ledger must not be able to read keel/office/payroll",
        "Nobody may write payroll over SMB": "Everyone must not be able to write keel/office/payroll over SMB",
        "only Ledger and Directors can see payroll": "Everyone but Directors and Ledger must not be able to see keel/office/payroll",
        "Priya Natarajan cannot read payroll": "Priya Natarajan must not be able to read keel/office/payroll",
    }.items():
        assert promised(quay, promises.read_sentence(quay, text)) == words


def test_not_twice(quay: Plan) -> None:
    with pytest.raises(FormatError, match="twice not"):
        promises.read_sentence(quay, "Nobody but Ledger must not read payroll")


def test_a_name_with_but_or_and_in_it_is_tried_whole_first(quay: Plan) -> None:
    odd = {"odd": Group(id="odd", name="all but sails"), "two": Group(id="two", name="Masts and Spars")}
    plan = replace(quay, groups={**quay.groups, **odd})
    assert promises.read_sentence(plan, "all but sails must read drawings").who == "odd"
    found = promises.read_sentence(plan, "everyone but Masts and Spars must not read drawings")
    assert (found.who, found.except_for) == (EVERYONE, {"two"})


def test_a_table_goes_out_and_comes_in(quay: Plan) -> None:
    text = promises.write(quay)
    bare = replace(quay, promises={})
    back, _ = apply(bare, promises.read(bare, text).edits)
    assert sorted(promised(back, p) for p in back.promises.values()) == sorted(
        promised(quay, p) for p in quay.promises.values()
    )
    again = promises.read(quay, text)
    assert again.edits == ()
    assert len(again.notes) == 6


@settings(max_examples=times(100, 500))
@given(plans(shares=True))
def test_random_promises_go_out_and_come_in(plan: Plan) -> None:
    bare = replace(plan, promises={})
    back, _ = apply(bare, promises.read(bare, promises.write(plan)).edits)
    said = {(p.who, p.except_for, p.must, p.act, p.place, p.protocol) for p in plan.promises.values()}
    assert {(p.who, p.except_for, p.must, p.act, p.place, p.protocol) for p in back.promises.values()} == said


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ("who,act,place\nLedger,read,payroll\n", 1, "there is no column must"),
        ("who,must,act,place\nLedger,should,read,payroll\n", 2, "“should” in column must"),
        ("who,must,act,place\nLedger,must,eat,payroll\n", 2, "“eat” in column act"),
        ("who,must,act,place,over\nLedger,must,read,payroll,ftp\n", 2, "“ftp” in column over"),
        ("who,must,act,place\nLedger,must,read,payroll\n\nNobody,must,read,payroll\n", 4, "“Nobody” is nobody"),
    ],
)
def test_a_table_that_cannot_be_taken_in_says_where(quay: Plan, text: str, line: int, said: str) -> None:
    with pytest.raises(FormatError) as refused:
        promises.read(quay, text)
    assert refused.value.line == line
    assert said in str(refused.value)


def test_guests_and_everyone_in_a_table(quay: Plan) -> None:
    found = promises.read(quay, "who;must;act;place\nguest;must not;see;keel/office/quotes\neveryone;no;write;quotes\n")
    edits = [edit.promise for edit in found.edits if isinstance(edit, PutPromise)]
    assert [(p.who, p.must, p.act) for p in edits] == [(GUEST, False, "see"), (EVERYONE, False, "write")]
