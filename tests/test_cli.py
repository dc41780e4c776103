"""The command line, as a script or a person uses it."""

import csv
import json
import subprocess
import sys
from dataclasses import replace
from datetime import date
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.server import Server, free_port
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.outcome import outcome
from yardgate.core.access.walk import walk
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.model.plan import LOCAL, Plan, same
from yardgate.core.model.share import Over
from yardgate.formats import planfile
from yardgate.store import Plans
from yardgate.store.accounts import Accounts


def yardgate(*arguments: object, code: int = 0, stdin: str | None = None) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "yardgate.cli", *map(str, arguments)],
        capture_output=True,
        text=True,
        input=stdin,
        env={"PATH": "/usr/bin:/bin", "COLUMNS": "200", "HOME": "/nonexistent"},
    )
    assert done.returncode == code, (done.returncode, done.stdout, done.stderr)
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


@pytest.fixture
def plan_file(tmp_path: Path, lantern: Plan) -> Path:
    path = tmp_path / "lantern.json"
    path.write_text(planfile.write(lantern))
    return path


def test_resolve_writes_every_cell(plan_file: Path, tmp_path: Path, lantern: Plan) -> None:
    yardgate("resolve", plan_file, "--on", "2027-01-01", "--out", tmp_path / "out.csv")
    with (tmp_path / "out.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    found = resolve(lantern, ON)
    names = {lantern.called(user): user for user in lantern.users}
    paths = {lantern.path_name(place): place for place in lantern.places}
    assert len(rows) == len(lantern.users)
    assert all(row[path] == found.level(names[row["name"]], place) for row in rows for path, place in paths.items())
    by_id = json.loads(yardgate("resolve", plan_file, "--on", "2027-01-01", "--json"))
    assert by_id["on"] == "2027-01-01"
    assert all(
        level == found.level(user, place) for user, cells in by_id["levels"].items() for place, level in cells.items()
    )


def test_explain_says_why(plan_file: Path) -> None:
    said = yardgate("explain", plan_file, "priya@lanternquay.example", "keel/drawings/toolpaths", "--on", "2027-01-01")
    assert "Priya Natarajan in keel/drawings/toolpaths: no access (NA)" in said
    assert "Apprentices: no access. A refusal wins." in said
    assert "a refusal wins" in said
    told = json.loads(yardgate("explain", plan_file, "Viktor Sand", "petrel-9", "--json", "--on", "2027-01-01"))
    assert (told["level"], told["source"]) == ("NA", "account")
    assert "is not a user or group" in yardgate("explain", plan_file, "nobody", "petrel-9", code=2)


def test_check_finds_what_cannot_stand(plan_file: Path, tmp_path: Path) -> None:
    said = yardgate("check", plan_file, "--on", "2027-01-01", code=3)
    assert "broken    Draughting must be able to read keel/drawings/toolpaths" in said or "promises kept" in said
    told = json.loads(yardgate("check", plan_file, "--json", "--on", "2027-01-01", code=3))
    assert told["errors"] == []
    assert len(told["promises"]) == 6
    assert {one["severity"] for one in told["findings"]} == {"serious", "consider", "note"}
    fine = tmp_path / "fine.json"
    fine.write_text('{"format": "yardgate-plan", "version": 1, "name": "fine"}')
    assert (
        yardgate("check", fine)
        == "fine: 0 users, 0 groups, 0 places; 0 of 0 promises kept; found: 0 serious, 0 consider, 0 note\n"
    )
    new = yardgate("check", plan_file, "--in-force", fine, "--on", "2027-01-01", code=3)
    assert "payroll is new: nobody sees it until the service has read its configuration again." in new
    broken = tmp_path / "broken.json"
    broken.write_text(plan_file.read_text().replace('"who": "ledger"', '"who": "ghost"'))
    assert "names “ghost”, who is not a user or group" in yardgate("check", broken, code=1)
    assert json.loads(yardgate("check", broken, "--json", code=1))["errors"]
    assert "not JSON" in yardgate("check", "-", stdin="{", code=1)
    assert "No such file" in yardgate("check", tmp_path / "none.json", code=2)
    yardgate("check", code=2)


def test_the_main_job_on_this_machines_own_accounts(tmp_path: Path) -> None:
    """Account files and a matrix of 12 × 8 in, a clash explained, an edit made and undone, the result read back."""
    data = ("--data", tmp_path / "data", "--plan", "host")
    assert "edits kept" in yardgate(
        "import", "accounts", "/etc/passwd", "/etc/group", "--lowest", 0, "--highest", 4294967294, *data
    )
    people = sorted(line.split(":")[0] for line in Path("/etc/passwd").read_text().splitlines())[:12]
    assert len(people) == 12
    first = f"user:{people[0]}"
    places = [f"tank/data-{number}" for number in range(8)]
    spelled = ["RW", "read only", "NA", "-", "r", "w", "no access", ""]
    table = [
        ["who", *places],
        *([f"user:{name}", *(spelled[(row + col) % 8] for col in range(8))] for row, name in enumerate(people)),
    ]
    with (tmp_path / "matrix.csv").open("w", newline="") as file:
        csv.writer(file, delimiter=";").writerows(table)
    assert "is not in the plan" in yardgate("import", "matrix", tmp_path / "matrix.csv", *data, "--dry-run", code=1)
    yardgate("import", "matrix", tmp_path / "matrix.csv", *data, "--make-places")
    yardgate("import", "people", "-", *data, stdin=f"group,members\ncrew,user:{people[0]}\n")
    assert "1 cell came out differently" in yardgate("grant", "group:crew", places[0], "NA", *data)

    yardgate("export", "plan", *data, "--out", tmp_path / "plan.json")
    why = yardgate("explain", tmp_path / "plan.json", first, places[0])
    assert "crew: no access. A refusal wins." in why
    assert "The grants disagree" in why

    before = yardgate("export", "effective", *data)
    assert "1 cell came out differently" in yardgate("grant", first, places[3], "RW", *data)
    assert yardgate("export", "effective", *data) != before
    assert "undid" in yardgate("undo", *data)
    assert yardgate("export", "effective", *data) == before

    found = resolve(planfile.read((tmp_path / "plan.json").read_text()), date.today())
    ids = {user.name: user.id for user in found.plan.users.values()}
    cells = {found.plan.path_name(place): place for place in found.plan.places}
    rows = list(csv.DictReader(before.splitlines()))
    assert len(rows) == len(ids) >= 12
    assert all(row[path] == found.level(ids[row["name"]], place) for row in rows for path, place in cells.items())
    assert [row[places[0]] for row in rows if row["name"] == people[0]] == ["NA"]


def test_everything_that_the_api_writes_the_command_line_writes(plan_file: Path, tmp_path: Path, lantern: Plan) -> None:
    told = yardgate("export", "promises", "--file", plan_file)
    assert "must be able to read" in told or "must" in told
    (tmp_path / "promises.csv").write_text(told)
    assert "0 edits kept" in yardgate("import", "promises", tmp_path / "promises.csv", "--file", plan_file)
    assert yardgate("export", "access", "--file", plan_file).startswith("place,")
    yardgate("export", "workbook", "--file", plan_file, "--out", tmp_path / "plan.xlsx")
    assert (tmp_path / "plan.xlsx").read_bytes().startswith(b"PK")
    gets = list(csv.DictReader(yardgate("export", "effective", "--file", plan_file).splitlines()))
    found = outcome(resolve(lantern, date.today()))
    name = {user.name: user.id for user in lantern.users.values() if user.origin == LOCAL}
    for row in (row for row in gets if "\\" not in row["name"]):
        for place in lantern.places:
            shown = "–" if not found.ways_to(place) else found.level(name[row["name"]], place)
            assert row[lantern.path_name(place)] == shown


def test_a_plan_file_is_worked_on_without_a_database(tmp_path: Path) -> None:
    file = tmp_path / "nas.json"
    (tmp_path / "people.csv").write_text("name,groups\nann,Crew\nbob,Crew\n")
    assert "“Crew” is not in the plan" in yardgate("import", "people", tmp_path / "people.csv", "--file", file, code=4)
    yardgate("import", "people", tmp_path / "people.csv", "--file", file, "--make-groups")
    yardgate("import", "matrix", "-", "--file", file, "--make-places", stdin="who,tank/jobs\nCrew,RW\n")
    said = yardgate("grant", "ann", "jobs", "no access", "--file", file)
    assert "ann on tank/jobs: no access; 1 cell came out differently" in said
    assert list(csv.reader(yardgate("export", "effective", "--file", file).splitlines()))[1:] == [
        ["person", "ann", "", "PT", "NA"],
        ["person", "bob", "", "PT", "RW"],
    ]
    assert same(planfile.read(yardgate("export", "plan", "--file", file)), planfile.read(file.read_text()))
    before = file.read_text()
    assert "“maybe” is not a level" in yardgate("grant", "ann", "jobs", "maybe", "--file", file, code=2)
    assert "line 2: “maybe” is not a level" in yardgate(
        "import", "matrix", "-", "--file", file, stdin="who,tank/jobs\nCrew,maybe\n", code=1
    )
    assert file.read_text() == before


def test_accounts_are_kept_by_command(tmp_path: Path) -> None:
    data = ("--data", tmp_path)
    assert "/sign-in?link=" in yardgate("account", "link", *data)
    assert "/sign-in?link=" in yardgate("account", "add", "Rosa", "--role", "administrator", *data)
    assert "no password yet" in yardgate("account", "list", *data)
    assert "must remain" in yardgate("account", "change", "Rosa", "--disable", *data, code=1)
    assert "is not a role" in yardgate("account", "add", "X", "--role", "king", *data, code=2)
    assert "there is no account" in yardgate("account", "link", "Nobody", *data, code=2)
    assert "say which plan" in yardgate("export", "plan", *data, code=2)


def test_one_data_folder_is_served_once(tmp_path: Path) -> None:
    server = Server(tmp_path).start()
    try:
        assert "is served already" in yardgate("serve", "--data", tmp_path, "--port", free_port(), code=1)
        server.kill()
        server.start()
    finally:
        server.stop()


def test_a_demo_is_made_only_where_a_demo_was_and_never_while_it_is_served(tmp_path: Path) -> None:
    mine = Server(tmp_path / "mine")
    plan = mine.put(demo.plan())
    with mine:
        for more in ((), ("--fresh",)):
            said = yardgate("demo", "--data", mine.data, "--port", free_port(), *more, code=1)
            assert "is served already" in said
    for more in ((), ("--fresh",)):
        said = yardgate("demo", "--data", mine.data, "--port", free_port(), *more, code=1)
        assert "was not made by a demo; it is left alone" in said
    store = mine.store()
    assert Accounts(store).all() == []
    assert Plans(store).open(plan).revision == 1


def test_bench_measures_a_small_plan() -> None:
    results = json.loads(yardgate("bench", "--users", 60, "--groups", 12, "--places", 20, "--json"))
    assert "0 differ" in {result["measured"] for result in results}


def test_bench_pushes_a_list_down_over_files() -> None:
    results = json.loads(yardgate("bench", "--files", 350, "--json"))
    assert [result["what"] for result in results] == [
        "355 things of a folder looked at",
        "a list pushed down over them",
        "looked at again: 0 otherwise",
    ]


def test_resolve_over_the_shares(plan_file: Path, lantern: Plan) -> None:
    matrix = resolve(lantern, ON)
    for over in ("smb", "any"):
        told = json.loads(yardgate("resolve", plan_file, "--on", "2027-01-01", "--json", "--over", over))["levels"]
        found = outcome(matrix).best[None if over == "any" else "smb"]
        numbers = {user: matrix.counting.number[user] for user in lantern.users}
        assert told == {user: {p: LEVELS[found[p][n]] for p in lantern.places} for user, n in numbers.items()}
    assert "leave out --over" in yardgate("resolve", plan_file, "--over", "smb", "--rights", code=2)


def test_walking_through_the_shares_as_somebody(plan_file: Path, lantern: Plan) -> None:
    said = yardgate("walk", plan_file, "--as", "priya.natarajan", "--share", "common", "--on", "2027-01-01")
    assert said.startswith("common: keel/common\n")
    told = json.loads(yardgate("walk", plan_file, "--as", "guest", "--json", "--on", "2027-01-01"))
    shares = sorted((share for share in lantern.shares.values() if share.smb), key=lambda share: share.id)
    assert {one["share"]: one["listed"] for one in told["shares"]} == {share.name: not share.hidden for share in shares}
    for one, share in zip(told["shares"], shares, strict=True):
        for place, visit in zip(one["places"], walk(lantern, "guest", Over(share.id, "smb"), ON), strict=True):
            assert (place["place"], place["level"], place["shown"]) == (
                lantern.path_name(visit.place),
                visit.level,
                visit.shown,
            )
            assert place["why"] == visit.gate.sentence
    over_nfs = json.loads(
        yardgate("walk", plan_file, "--as", "Tomas Brandt", "--over", "nfs", "--from", "192.0.2.7", "--json")
    )
    assert {one["share"]: one["places"][0]["shown"] for one in over_nfs["shares"]} == {
        "machines": False,
        "images": True,
    }
    tomas = next(user for user in lantern.users.values() if user.full_name == "Tomas Brandt")
    numbers = json.loads(
        yardgate("walk", plan_file, "--as", f"{tomas.uid}", "--over", "nfs", "--called", "lathe.yard.example", "--json")
    )
    assert numbers["who"] == tomas.id
    beyond = yardgate("walk", plan_file, "--as", "4294967295", "--over", "nfs", code=2)
    assert "4294967295 is not a number of a user or group" in beyond
    why = yardgate("explain", plan_file, "guest", "noticeboard", "--share", "notices")
    assert "notices lets guests in: read-only." in why
    assert "1. Account: RW\n   NFS asks no password" in yardgate(
        "explain", plan_file, "Tomas Brandt", "toolpaths", "--share", "machines", "--over", "nfs"
    )
    assert "keel/training does not lie in it" in yardgate(
        "explain", plan_file, "Tomas Brandt", "training", "--share", "notices", code=2
    )
    assert "is not a user or group" in yardgate("explain", plan_file, "guest", "noticeboard", code=2)
    assert "is not an address" in yardgate("walk", plan_file, "--as", "guest", "--from", "bench", code=2)
    assert "is not a share" in yardgate("walk", plan_file, "--as", "guest", "--share", "attic", code=2)


def test_resolve_with_rights_and_explain_with_lists(tmp_path: Path, quay: Plan) -> None:
    path = tmp_path / "quay.json"
    path.write_text(planfile.write(quay))
    rows = list(csv.DictReader(yardgate("resolve", path, "--rights", "--on", "2027-01-01").splitlines()))
    assert len(rows) == 34 * 22
    cell = next(row for row in rows if row["name"] == "cnc-router" and row["place"] == "keel/drawings")
    assert (cell["level"], cell["folder letters"], cell["file"]) == ("PT", "xty", "0x0")
    told = json.loads(yardgate("resolve", path, "--rights", "--json", "--on", "2027-01-01"))
    assert told["cells"]["cnc-router"]["drawings"] == {"level": "PT", "folder": 0x1000A0, "file": 0}
    said = yardgate("explain", path, "Priya Natarajan", "toolpaths", "--on", "2027-01-01")
    assert "4. List of toolpaths: NA — decides" in said
    assert "decides    deny Apprentices: rwaDdxtTnNcCoy fd  (grant, keel/drawings/toolpaths)" in said
    assert "too late   allow Draughting" in said


def test_answers_of_a_dry_run_are_completed_by_options(tmp_path: Path) -> None:
    file, table = tmp_path / "nas.json", tmp_path / "rights.csv"
    table.write_text("who;tank/jobs\nann;x\n")
    made = ("--file", file, "--make", "ann=person", "--make", "tank/jobs=place")
    asked = json.loads(yardgate("import", "matrix", table, *made, "--dry-run", "--json", code=4))
    assert asked["unknown words"] == {"x": 1}
    answers = tmp_path / "answers.json"
    answers.write_text(json.dumps(asked["answers"]))
    yardgate("import", "matrix", table, "--file", file, "--answers", answers, "--means", "x=RO")
    plan = planfile.read(file.read_text())
    assert [dict(said) for said in plan.grants.values()] == [{"ann": "RO"}]


def test_folders_come_in_and_lists_go_out(tmp_path: Path, quay: Plan) -> None:
    path, listing = tmp_path / "quay.json", tmp_path / "listing.txt"
    path.write_text(planfile.write(quay))
    text = "# file: slip\n# owner: root\n# group: Yard\nuser::rwx\ngroup::r-x\nother::---\n"
    listing.write_text(text)
    assert "1 of 1 folders became places" in yardgate("import", "getfacl", listing, "--file", path)
    assert yardgate("export", "setfacl", "--at", "slip", "--file", path) == text
    assert "say which place" in yardgate("export", "nfs4", "--file", path, code=2)
    listing.write_text(text.replace("group::r-x", "group::r-q").replace("slip", "quayside"))
    assert "line 5, column 8" in yardgate("import", "getfacl", listing, "--file", path, code=1)
    assert "quayside" not in path.read_text()
    listing.write_text(text.replace("Yard", "Yarrd").replace("slip", "quayside"))
    assert "nobody knows the group “Yarrd”" in yardgate("import", "getfacl", listing, "--file", path, code=4)
    assert "quayside" in path.read_text()
    again = yardgate("import", "getfacl", listing, "--file", path, "--at", "quayside", "--dry-run", "--json")
    assert json.loads(again)["edits"] == []


def test_a_directory_is_read_from_the_command_line(tmp_path: Path) -> None:
    from yardgate import demo

    path, ldif = tmp_path / "plan.json", Path(demo.__file__).with_name("lanternquay.ldif")
    path.write_text(planfile.write(demo.plan()))
    would = yardgate("directory", "read", "--file", path, "--ldif", ldif, "--dry-run")
    assert "ines.marques is called ines.duarte now" in would
    assert planfile.read(path.read_text()) == demo.plan()
    assert yardgate("directory", "read", "lanternquay", "--file", path, "--ldif", ldif) == would
    assert yardgate("directory", "read", "--file", path, "--ldif", ldif) == ""  # in step: nothing to say
    told = json.loads(yardgate("directory", "status", "--file", path, "--json"))
    assert [(one["name"], one["accounts"], one["gone"]) for one in told] == [
        ("LANTERNQUAY", 8, ["LANTERNQUAY\\dana.rook"])
    ]
    assert "say which directory; joined here: LANTERNQUAY" in yardgate(
        "directory", "test", "other", "--file", path, code=2
    )
    assert "port: " in yardgate("directory", "test", "--file", path, code=1)


def test_suggest_gives_just_what_is_needed(tmp_path: Path) -> None:
    plan_file = tmp_path / "keelson.json"
    plan_file.write_text(planfile.write(demo.plan()))
    needs, made = tmp_path / "needs.csv", tmp_path / "made.json"
    several = json.loads(yardgate("suggest", plan_file, "--others", "--may-change", "--seconds", "8", "--json", code=1))
    assert several["kind"] == "exact"
    assert "fewer groups" in {one["kind"] for one in several["others"]}
    assert all(one["beyond"] for one in several["others"] if one["kind"] == "simpler")
    assert "a new one like Ansel Krug" in yardgate("suggest", plan_file, code=1)
    plan_file.write_text(planfile.write(replace(planfile.read(plan_file.read_text()), needs={})))
    needs.write_text("who,payroll,photos\nOffice,read,change\nMira Oyelaran,must not,\nTomas Brandt,change,\n")
    told = json.loads(yardgate("suggest", plan_file, "--needs", needs, "--json", "-o", made))
    assert (told["new_groups"], told["personal"], told["misses"], told["proven"]) == (0, 1, [], True)
    after = planfile.read(made.read_text())
    matrix = resolve(after, ON)
    for user in after.users:
        office = user in {one for one in matrix.counting.subjects if matrix.level(one, "photos") == Level.RW}
        wanted = "RW" if user == "tomas-brandt" else "RO" if office else "NA"
        assert matrix.level(user, "payroll") == wanted or not after.users[user].active(ON)
    assert len(after.needs) == 4
    said = yardgate("suggest", made)
    assert "proven" in said
    needs.write_text("who,payroll\nOffice,read\nLedger,must not\n")
    assert "contradiction for Oskar Dahl" in yardgate("suggest", plan_file, "--needs", needs, code=1)
    assert "nothing is needed" in yardgate("suggest", plan_file, code=2)
    assert "does not have: Nobody" in yardgate(
        "suggest", plan_file, "--needs", "-", stdin="who,payroll\nNobody,read\n", code=2
    )
    assert "takes no needs" in yardgate("suggest", plan_file, "--today", "--simplify", code=2)
    less = json.loads(yardgate("suggest", plan_file, "--simplify", "--json", "-o", made))
    assert (less["cells_changed"], less["whole"]) == (0, True)
    assert less["grants"][1] < less["grants"][0]
    assert "nothing to simplify" in yardgate("suggest", made, "--simplify")
    today = json.loads(yardgate("suggest", plan_file, "--today", "--json", "-o", made))
    assert today["misses"] == []
    kept, was = (outcome(resolve(planfile.read(one.read_text()), ON)) for one in (made, plan_file))
    assert all(
        (kept.level(u, p) >= Level.RO) == (was.level(u, p) >= Level.RO)
        for u in kept.matrix.plan.users
        for p in kept.matrix.plan.places
    )
