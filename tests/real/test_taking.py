"""Taking a real Linux file server in: a plan of it says for every person what a real client finds there."""

import random
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.test_host import after_steps, office, roll, runner, shell, visit
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.edits.apply import apply
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import asked
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Plan
from yardgate.drivers.linux.apply import put_back
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read
from yardgate.drivers.linux.snapshot import copied
from yardgate.formats import server

SHARES = 14


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


def configuration(rng: random.Random, plan: Plan, folders: list[str]) -> dict[str, str]:
    """A configuration as people write them: included files, comments, odd spacing, other words for the same, macros, quotes."""
    users, groups = list(plan.users), list(plan.groups)

    def some(least: int = 0) -> str:
        chosen = rng.sample([*users, *(f"{rng.choice('@+')}{g}" for g in groups)], rng.randint(least, 4))
        chosen = [f'"{one}"' if rng.random() < 0.2 else one for one in chosen]
        return rng.choice([", ", " ", ","]).join(chosen)

    sections = []
    for number in range(SHARES):
        name = f"{rng.choice(['slip way', 'hulls', 'office'])} {number}"
        lines = [rng.choice(["path = {}", "  Path={}", "directory   =   {}"]).format(rng.choice(folders))]
        for key, least, chance in (
            ("valid users", 1, 0.6),
            ("invalid users", 0, 0.3),
            ("write list", 0, 0.5),
            ("read list", 0, 0.4),
        ):
            if rng.random() < chance:
                lines.append(f"{rng.choice([key, key.title(), key.replace(' ', '  ')])} = {some(least)}")
        lines.append(
            rng.choice(
                [
                    "read only = no",
                    "writable = yes",
                    "Writeable=TRUE",
                    "read only = yes",
                    "; nothing of it",
                    "write ok = no",
                ]
            )
        )
        lines.append(
            rng.choice(["guest ok = yes", "public = no", "# public = yes", "hide unreadable = yes", "browsable = no"])
        )
        if rng.random() < 0.2:
            lines.append(f"admin users = {rng.choice(users)}")
        rng.shuffle(lines)
        if rng.random() < 0.3:
            lines.append("comment = a long \\\n   comment, \\\n of lines")
        sections.append((name, lines))
    files = {"/etc/samba/smb.conf": "", "/etc/samba/more.conf": "", "/etc/samba/deeper.conf": ""}
    for name, lines in sections:
        text = f"\n{rng.choice(['', '# ' + name, '; old'])}\n[{name}]\n" + "".join(
            f"{rng.choice(['', '  ', chr(9)])}{line}\n" for line in lines
        )
        files[rng.choice(list(files))] += text
    files["/etc/samba/more.conf"] += "\ninclude = /etc/samba/deeper.conf\n"
    files["/etc/samba/smb.conf"] += (
        "\n   Include  =  /etc/samba/more.conf\ninclude = /etc/samba/%m.conf\ninclude = /etc/samba/missing.conf\n"
    )
    files["/etc/samba/deeper.conf"] += "\n[homes]\n read only = no\n[own]\n path = /srv/homes/%U\n"
    return files


def laid_out(seed: int) -> Plan:
    """An office with POSIX lists, whose shares are not its own, and in which nobody is root."""
    plan = office(seed, places=30)
    users = {u.id: replace(u, uid=u.uid or 20050, expires=None) for u in plan.users.values()}
    return replace(plan, users=users, shares={})


def test_a_server_taken_in_is_entered_as_its_plan_says(keelson: Host) -> None:
    counts, wrong, lists = Counter[str](), [], 0
    general = shell(keelson, "cat /etc/samba/smb.conf")
    shell(
        keelson,
        "cut -d: -f1,3 /etc/passwd | while IFS=: read -r n u; do test $u -lt 1000 || test $u -gt 60000 || userdel $n; done",
    )
    for seed in [3 * number for number in range(times(2, 60))]:
        rng = random.Random(f"taking-{seed}")
        stored = laid_out(seed)
        wanted = compiled(resolve(stored, ON), "/srv").system
        now = read(runner(keelson), asked(wanted))
        _, carried = roll(keelson, now, wanted)
        folders = list(wanted.folders)
        lists += len(folders)
        for path, text in configuration(rng, stored, folders).items():
            whole = (general if path.endswith("/smb.conf") else "") + text
            keelson.ask("run", argv=["sh", "-c", f"cat > {path}"], given=whole)
        assert shell(keelson, "testparm -s > /dev/null 2>&1 && echo fine") == "fine\n"
        shell(keelson, "smbcontrol smbd reload-config")
        texts = copied(runner(keelson), ["/srv"])
        assert set(texts.smb) == {"/etc/samba/smb.conf", "/etc/samba/more.conf", "/etc/samba/deeper.conf"}
        reading = server.read(Plan(name="taken in"), texts)
        taken, _ = apply(Plan(name="taken in"), reading.edits)
        assert check(taken) == ()
        said = [note.text for note in reading.notes]
        for what in ("[homes]", "/srv/homes/%U", "%m.conf", "missing.conf"):
            assert any(what in text for text in said), what
        assert len(taken.shares) == SHARES
        matrix = resolve(taken, ON)
        wrong += [one for one in visit(keelson, matrix, counts, top="/") if not both(one, said)]
        for path in ("/etc/samba/more.conf", "/etc/samba/deeper.conf"):
            shell(keelson, f"rm {path}")
        keelson.ask("run", argv=["sh", "-c", "cat > /etc/samba/smb.conf"], given=general)
        shell(keelson, "find /srv -type f -delete")
        assert put_back(LinuxHost(runner(keelson)), after_steps(now, carried.done), carried).failed is None
    print(dict(counts), lists, "lists", len(wrong), "differ")
    for one in wrong[:20]:
        print(one)
    assert wrong == []
    assert lists >= 60


def both(one: tuple[object, ...], said: list[str]) -> bool:
    """Whether it is about a share of which the notes say that it offers the same folder as another."""
    share = one[1]
    return any(f"[{share.name}] offers the same folder as" in text for text in said)  # type: ignore[attr-defined]
