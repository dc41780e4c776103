"""Very large texts: what is worked out for many at once is what each comes to alone, and too much is refused."""

import io
from dataclasses import replace
from functools import partial
from types import ModuleType

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook

from tests.plans import plans
from tests.readers import WANTED
from tests.tries import times
from yardgate.core.access.membership import token
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.edits.records import PutShare
from yardgate.core.model.names import free_name, fresh_id
from yardgate.core.model.plan import EVERYONE, Plan
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux import reading as host
from yardgate.drivers.linux.command import Command, Done
from yardgate.formats import accounts, everybody, importing, layout, reading, server, sheets, smb_shares, workbook
from yardgate.formats.everybody import Everybody
from yardgate.formats.importing import ToImport
from yardgate.formats.reading import FormatError, Note, some_notes
from yardgate.tools import bench_imports


@given(plans(), st.data(), st.sampled_from([1, 3, everybody.APART]))
@settings(max_examples=times(60, 2000), deadline=None)
def test_what_everybody_gets_is_what_each_gets(plan: Plan, data: st.DataObject, apart: int) -> None:
    names = data.draw(st.frozensets(st.sampled_from([EVERYONE, *plan.users, *plan.groups]), max_size=8))
    said = {who: data.draw(st.sampled_from(LEVELS)) for who in sorted(names)}
    people = Everybody(plan)

    def of(counts_as: object) -> Level:
        return max((level for who, level in said.items() if who in counts_as), default=Level.NA)  # type: ignore[operator]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(everybody, "APART", apart)
        levels = people.levels(names, of)
    assert people.by_name(levels) == {
        user.id: of(token(plan, user.id)) for user in plan.users.values() if not user.of_host
    }
    assert people.enabled.tolist() == [plan.users[user].enabled for user in people.people]


@pytest.mark.parametrize("many", [1, 2, 3, 7, 500])
def test_the_next_free_name_is_that_after_the_last(many: int) -> None:
    taken = {"data", *(f"data-{number}" for number in range(2, many + 1))}
    assert fresh_id("Data", taken) == f"data-{many + 1}"
    assert free_name("Data", taken) == f"Data-{many + 1}"
    assert (fresh_id("data", ()), free_name("data", ())) == ("data", "data")
    assert fresh_id("data", {"data", "data-2", "data-4"}) not in {"data", "data-2", "data-4"}


def test_of_very_many_notes_the_rest_is_one() -> None:
    notes = tuple(Note(n, f"left out: {n}", toward="more", about=(f"s{n}",), missed=1) for n in range(9))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(reading, "MOST_NOTES", 7)
        *first, last = some_notes(notes)
        assert some_notes(notes[:7]) == notes[:7]
    assert tuple(first) == notes[:7]
    assert (last.text, last.toward, last.about) == ("2 more notes like these are not listed", "either", ("s7", "s8"))
    assert (last.lines, last.missed) == (2, 2)


def copied(people: int, shares: int, **more: str) -> server.Copied:
    return server.Copied(
        passwd="".join(f"u{number}:x:{1000 + number}:100::/:/bin/sh\n" for number in range(people)),
        group="crew:x:2000:u0,u1\n",
        smb={"smb.conf": "".join(f"[s{n}]\npath = /srv/f{n}\nvalid users = @crew u2\n" for n in range(shares))},
        listing="".join(
            f"# file: /srv{path}\n# owner: root\n# group: root\nuser::rwx\ngroup::r-x\nother::r-x\n\n"
            for path in ("", *(f"/f{n}" for n in range(shares)))
        ),
        **more,
    )


@pytest.mark.parametrize("limit", ["MOST_PAIRS", "MOST_LISTED", "MOST_LINES"])
def test_a_server_with_more_shares_than_can_be_worked_out_is_refused(
    limit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    taken = server.read(Plan(), copied(4, 3))
    assert sum(isinstance(edit, PutShare) for edit in taken.edits) == 3
    monkeypatch.setattr(smb_shares, limit, 5)
    with pytest.raises(FormatError, match="take in fewer shares"):
        server.read(Plan(), copied(4, 3))


def test_exports_of_folders_of_one_name_have_names_of_their_own() -> None:
    paths = ["", "/a", "/b", "/c", "/a/x", "/b/x", "/c/x"]
    listing = "".join(
        f"# file: /srv{path}\n# owner: root\n# group: root\nuser::rwx\ngroup::r-x\nother::r-x\n\n" for path in paths
    )
    exports = "".join(f"/srv/{top}/x *(rw)\n" for top in "abc")
    edits = server.read(Plan(), server.Copied(listing=listing, exports=exports)).edits
    assert [edit.share.name for edit in edits if isinstance(edit, PutShare)] == ["x", "x export", "x export-2"]


def book(rows: int, columns: int) -> bytes:
    made, out = Workbook(), io.BytesIO()
    assert made.active is not None
    for row in range(rows):
        made.active.append([f"{row}/{column}" for column in range(columns)])
    made.save(out)
    return out.getvalue()


def test_a_workbook_of_too_many_cells_is_refused_before_it_is_read(monkeypatch: pytest.MonkeyPatch) -> None:
    assert len(sheets.sheets(book(20, 20))[0].rows) == 20
    monkeypatch.setattr(sheets, "load_workbook", lambda *_, **__: pytest.fail("it was read"))
    monkeypatch.setattr(sheets, "FILLED", 200)
    with pytest.raises(FormatError, match="about 200 filled cells"):
        sheets.sheets(book(20, 20))
    monkeypatch.setattr(sheets, "OLD_LARGEST", 100)
    with pytest.raises(FormatError, match="too large"):
        sheets.sheets(sheets.OLD + b" " * 200)


def test_the_plan_in_a_workbook_takes_few_cells() -> None:
    line = "x" * 20
    text = "\n".join([line] * 1000 + ["y" * (3 * workbook.CELL)] + [line] * 1000 + ["", ""] + [line])
    pieces = [*workbook._pieces(text)]
    assert "\n".join(pieces).replace(f"\n{workbook.CONTINUED}", "") == text
    assert len(pieces) < 20
    assert max(map(len, pieces)) <= workbook.CELL + 1
    assert max(piece.count("\n") for piece in pieces) < 253  # what Excel has of lines in a cell


def test_a_host_that_says_something_else_of_its_servers_is_told() -> None:
    def answers(said: str, _: Command) -> Done:
        return Done(0, said, "")

    asked = replace(WANTED, services={"smb": host.HostService(name="smb", running=True, enabled=True)})
    for said in ("smb\n", "smb yes yes no\n", "no such thing at all\n"):
        with pytest.raises(ApplianceError, match="said something else"):
            host.read(partial(answers, said), asked, parts={"services"})


def test_the_measure_of_readers_reads_what_it_says() -> None:
    found = {result.what: result.measured for result in bench_imports.run(0.01)}
    came = {what for what, said in found.items() if "refused" not in said and " 0 edits" not in said}
    assert {"folders, most alike", "table", "workbook (.xlsx)", "workbook (.ods)", "a file server", "LDIF"} <= came, (
        found
    )
    assert all("too large" in what or "noise" in what or "line ends" in what for what in found.keys() - came), found


@pytest.mark.parametrize(
    ("module", "limit", "kind", "why"),
    [
        (layout, "MOST_WORDS", "matrix", "different words"),
        (accounts, "MOST_LINES", "accounts", "lines of accounts"),
        (sheets, "ROWS", "matrix", "lines are read"),
    ],
)
def test_what_is_far_too_much_is_refused_at_once(
    module: ModuleType, limit: str, kind: importing.ImportKind, why: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    content = b"\n" * 30 if why == "lines are read" else b"name,tank/a,tank/b\nann,RW,x2\nbo,RW,x4\ncy,x5,RW\n"
    monkeypatch.setattr(module, limit, 2)
    with pytest.raises(FormatError, match=why):
        importing.read(Plan(), ToImport(kind=kind, content=content))
