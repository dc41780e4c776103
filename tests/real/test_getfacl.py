"""A real tree's getfacl output in, setfacl --restore out, and the real tools' own judgement of it."""

import os
import random
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from yardgate.core.edits.apply import apply
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Group, Plan, User
from yardgate.formats import list_text, listing, planfile
from yardgate.formats.reading import FormatError

ODD = [
    "plain",
    "two words",
    "equals=sign",
    "back\\slash",
    "#hash",
    "colon:name",
    "ümläut",
    "-dash",
    "dollar$(x)",
    "quote\"s'",
]


@pytest.fixture
def office() -> Plan:
    users = {
        f"u{n}": User(id=f"u{n}", name=f"ygtest user{n}" if n == 3 else f"ygtestu{n}", uid=23000 + n) for n in range(5)
    }
    groups = {f"g{n}": Group(id=f"g{n}", name=f"ygtestg{n}", gid=24000 + n) for n in range(4)}
    return Plan(users=users, groups=groups)


def run(*command: str | Path, cwd: Path, given: str = "") -> str:
    done = subprocess.run(command, cwd=cwd, input=given, capture_output=True, text=True, check=True)
    assert done.stderr == ""
    return done.stdout


def specs(rng: random.Random) -> Iterator[str]:
    for kind, first, many in (("u", 23000, 5), ("g", 24000, 4)):
        for number in rng.sample(range(many), rng.randint(0, 2)):
            yield f"{kind}:{first + number}:{rng.choice(['rwx', 'r-x', '--x', '---', 'rw-'])}"


def build(top: Path, rng: random.Random) -> int:
    """At least forty folders, three levels and more: default lists, cuts, mode bits, owners, odd names; and files in them."""
    folders = [top]
    top.mkdir()
    os.chown(top, 0, 24000)
    for number in range(48):
        parent = rng.choice([folder for folder in folders if len(folder.relative_to(top).parts) < 4])
        folder = parent / f"{ODD[number % len(ODD)]} {number}"
        folder.mkdir()
        folders.append(folder)
        if rng.random() < 0.4:
            subprocess.run(["setfacl", "-b", "-k", "-m", ",".join([*specs(rng), "o::---"]), folder], check=True)
        if rng.random() < 0.4:
            subprocess.run(["setfacl", "-d", "-m", ",".join([*specs(rng), "u::rwx", "o::r-x"]), folder], check=True)
        if rng.random() < 0.3:
            os.chown(folder, 23000 + rng.randrange(5), 24000 + rng.randrange(4))
        if rng.random() < 0.2:
            folder.chmod(rng.choice([0o2775, 0o1777, 0o750]))
        (folder / "a file").touch()
    return len(folders)


def test_a_real_tree_comes_in_and_goes_out_and_a_copy_restored_from_it_is_the_same(
    office: Plan, tmp_path: Path
) -> None:
    for seed in range(5):
        rng = random.Random(seed)
        here, there = tmp_path / f"here{seed}", tmp_path / f"there{seed}"
        here.mkdir()
        there.mkdir()
        assert build(here / "keel", rng) >= 40
        for path in sorted((here / "keel").rglob("*")):
            if path.is_file():  # as its folder would make it now; what else a file may have is no plan's business
                os.chown(path, path.parent.stat().st_uid, path.parent.stat().st_gid)
        folders = [
            path.relative_to(here) for path in [here / "keel", *sorted((here / "keel").rglob("*"))] if path.is_dir()
        ]
        text = run("getfacl", "-n", "--", *folders, cwd=here)
        reading = listing.read(office, text, "posix", only_folders=True)
        assert not reading.unknown
        plan, _ = apply(office, reading.edits)
        assert planfile.read(planfile.write(plan)) == plan
        pool = next(place.id for place in plan.places.values() if place.kind == "pool")
        assert len(plan.places) <= len(folders)

        for folder in folders:
            (there / folder).mkdir()
        restore = list_text.write_restore(plan, pool, text, only_folders=True)
        numbered = restore
        for record in (*plan.users.values(), *plan.groups.values()):
            name = record.name.replace(" ", "\\040")
            number = str(record.uid if isinstance(record, User) else record.gid)
            numbered = numbered.replace(f":{name}:", f":{number}:").replace(f": {name}\n", f": {number}\n")
        run("setfacl", "--restore=-", cwd=there, given=numbered)
        assert run("getfacl", "-n", "--", *folders, cwd=there) == text


def test_followers_are_counted_and_files_are_no_places(office: Plan, tmp_path: Path) -> None:
    top = tmp_path / "keel"
    (top / "drawings" / "old" / "older").mkdir(parents=True)
    (top / "secret").mkdir()
    for folder in (top, top / "drawings", top / "drawings/old", top / "drawings/old/older"):
        folder.chmod(0o755)
    (top / "secret").chmod(0o700)
    (top / "drawings" / "sheet").touch(0o644)
    reading = listing.read(office, run("getfacl", "-R", "keel", cwd=tmp_path), "posix")
    plan, _ = apply(office, reading.edits)
    assert sorted(place.name for place in plan.places.values()) == ["keel", "secret"]
    assert reading.notes[0].text == "2 of 5 folders became places; 3 just follow the one above them."
    assert reading.notes[1].text == "1 files were looked at and are no places."
    found = run("find", "keel", "-printf", "%y %m %u %g %p\\n", cwd=tmp_path)
    by_mode, _ = apply(office, listing.read(office, found, "mode").edits)
    assert sorted(place.name for place in by_mode.places.values()) == ["keel", "secret"]
    assert check(by_mode) == ()


def test_a_name_that_the_plan_does_not_have_is_asked_about_and_kept_as_the_servers_own(
    office: Plan, tmp_path: Path
) -> None:
    (tmp_path / "keel").mkdir()
    subprocess.run(["setfacl", "-m", "u:29123:r-x", tmp_path / "keel"], check=True)
    text = run("getfacl", "keel", cwd=tmp_path)
    reading = listing.read(office, text, "posix")
    assert [(u.name, u.of) for u in reading.unknown] == [("29123", "who")]
    kept, _ = apply(office, reading.edits)
    assert [(user.uid, user.of_host) for user in kept.users.values()][-1] == (29123, True)
    plan, _ = apply(office, listing.read(office, text, "posix", make={"29123": "service"}).edits)
    assert [(user.uid, user.kind) for user in plan.users.values()][-1] == (29123, "service")
    with pytest.raises(FormatError, match="line 5, column 12"):
        listing.read(office, text.replace("29123:r-x", "29123:rqx"), "posix")
