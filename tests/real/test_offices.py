"""Whole file servers of offices taken in: the plan says what a real client finds, or a note says that somebody may get more, or less."""

from base64 import b64encode
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest

from tests.api.conftest import Web, now
from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.offices import OFFICES, Office
from tests.real.test_host import roll, runner, shell, visit
from tests.test_cli import yardgate
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.paths import inside
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Join, PutUser
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import asked
from yardgate.core.host.steps import Step, steps
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import GUEST, LOCAL, Plan, User, same
from yardgate.core.model.share import Share
from yardgate.drivers.linux.reading import read
from yardgate.drivers.linux.snapshot import copied
from yardgate.formats import importing, planfile, server
from yardgate.formats.importing import ToImport
from yardgate.formats.reading import Note, Reading
from yardgate.store import Plans
from yardgate.store.database import Store


@pytest.fixture
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


def set_up(at: Host, office: Office) -> None:
    shell(
        at,
        "cut -d: -f1,3 /etc/passwd | while IFS=: read -r n u; do test $u -lt 1000 || test $u -gt 60000 || userdel $n; done",
    )
    accounts = "\n".join(f"useradd -M -U -u {number} {name}" for name, number in office.people.items())
    known = "\n".join(f"printf 'x\\nx\\n' | smbpasswd -s -a {name}" for name in office.people)
    said = shell(at, f"set -e\n{accounts}\n{known}\ncd /srv\n{office.script}\necho done")
    assert said.endswith("done\n"), said
    for path, text in office.more.items():
        shell(at, f"cat > {path}", text)
    shell(at, "cat >> /etc/samba/smb.conf", office.conf)
    shell(at, "smbcontrol smbd reload-config")


def sign_in(plan: Plan, who: str) -> dict[str, str]:
    return {"name": "" if who == GUEST else plan.users[who].name if who in plan.users else who}


def about(plan: Plan, notes: tuple[Note, ...], share: Share, toward: str) -> bool:
    """Whether a note says of a share, or of a place in it, that somebody may get more, or less."""
    here = {share.id, *inside(plan, share)}
    return any(not here.isdisjoint(note.about) and note.toward in (toward, "either") for note in notes)


def by_command(before: Plan, files: Mapping[str, bytes]) -> Plan:
    """What `yard import server` makes of copied files."""
    with TemporaryDirectory() as folder:
        top = Path(folder)
        (top / "plan.json").write_text(planfile.write(before))
        for name, content in files.items():
            (top / name).write_bytes(content)
        code = 4 if importing.read(before, asked_for(files)).reading.unknown else 0
        yardgate("import", "server", *(top / name for name in files), "--file", top / "plan.json", code=code)
        return planfile.read((top / "plan.json").read_text())


def by_dialog(before: Plan, files: Mapping[str, bytes]) -> Plan:
    """What the dialog for imports keeps of them, after its preview."""
    with TemporaryDirectory() as folder:
        store = Store(Path(folder) / "yardgate.sqlite")
        web = Web(store, Plans(store).create(before, "ann").id)
        client = web.client()
        sent = [{"name": name, "content": b64encode(content).decode()} for name, content in files.items()]
        body = {"revision": 1, "kind": "server", "files": sent}
        looked = client.post(web.at("/import/preview"), json=body)
        assert looked.status_code == 200, looked.text
        kept = client.post(web.at("/import"), json={**body, "tag": looked.json()["tag"]})
        assert kept.status_code == 200, kept.text
        plan = now(web)
        store.close()
        return plan


def asked_for(files: Mapping[str, bytes]) -> ToImport:
    return ToImport(kind="server", copied=importing.of_server(files))


def taken_in(at: Host, office: Office, before: Plan) -> tuple[Plan, Reading]:
    """The plan as the server says it, by reading there and by its files alike."""
    texts = copied(runner(at), list(office.tops))
    reading = server.read(before, texts)
    plan, _ = apply(before, reading.edits)
    assert check(plan) == ()
    files = {
        "passwd": texts.passwd,
        "group": texts.group,
        "lists.txt": texts.listing,
        "accounts.txt": texts.smb_accounts or "",
        **texts.smb,
    }
    given = {path.rpartition("/")[2]: text.encode("utf-8", "surrogateescape") for path, text in files.items()}
    for way in (by_command, by_dialog):
        assert same(way(before, given), plan), "what was copied comes to the same"
    return plan, reading


def entered(at: Host, plan: Plan, reading: Reading, sign_in: Callable[[Plan, str], dict[str, str]] = sign_in) -> None:
    """Everybody finds what the plan says, or a note says otherwise."""
    matrix = resolve(plan, ON)
    counts = Counter[str]()
    wrong = visit(at, matrix, counts, top="/", sign_in=sign_in)
    unsaid = [one for one in wrong if not about(plan, reading.notes, one[1], "more" if one[-1] else "less")]
    print(plan.name, len(plan.users), len(plan.shares), dict(counts), len(wrong), "differ")
    for note in reading.notes:
        print("  ", note.where, note.toward, note.text)
    for _, share, *rest in unsaid[:40]:
        print(share.name, rest)
    assert unsaid == []


def left_to_do(at: Host, plan: Plan) -> tuple[Step, ...]:
    """The steps of a rollout of what was taken in."""
    wanted = compiled(resolve(plan, ON), "/", tuple(plan.directories)).system
    return steps(read(runner(at), asked(wanted)), wanted)


def one_more(at: Host, plan: Plan) -> None:
    """Somebody new in a group has only their own steps, and all else stays as it was."""
    group = next(
        g for g in plan.groups.values() if g.members & plan.users.keys() and not g.of_host and g.origin == LOCAL
    )
    then, _ = apply(plan, [PutUser(User(id="newcomer", name="newcomer", uid=5001)), Join(group.id, "newcomer")])
    more = compiled(resolve(then, ON), "/", tuple(plan.directories)).system
    there = read(runner(at), asked(more))
    assert [step.id for step in steps(there, more)] == ["groups:newcomer", "accounts:newcomer", f"members:{group.name}"]
    left, _ = roll(at, there, more)
    others = {name: who for name, who in left.members.items() if name not in (group.name, "newcomer")}
    assert others == {name: who for name, who in there.members.items() if name != group.name}
    assert replace(left, accounts={}, groups={}, members={}) == replace(there, accounts={}, groups={}, members={})


@pytest.mark.parametrize("office", OFFICES, ids=lambda office: office.name.split()[0])
def test_an_office_is_entered_as_the_plan_of_it_says(keelson: Host, office: Office) -> None:
    set_up(keelson, office)
    plan, reading = taken_in(keelson, office, Plan(name=office.name))
    entered(keelson, plan, reading)
    assert left_to_do(keelson, plan) == ()
    one_more(keelson, plan)
