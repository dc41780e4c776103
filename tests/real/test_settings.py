"""Each setting of a share as a real SMB server means it: the plan of it says what a client finds, or a note says more, or less."""

import shlex
from collections import Counter
from collections.abc import Iterator

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.offices import CHARITY
from tests.real.settings import SETTINGS
from tests.real.test_host import runner, shell, visit
from tests.real.test_offices import about, sign_in
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.access.walk import walk
from yardgate.core.edits.apply import apply
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import Over
from yardgate.drivers.linux.snapshot import copied
from yardgate.formats import server

ACCOUNTS = """
groupadd -g 1100 crew; groupadd -g 1101 late; groupadd -g 1102 case_workers
sed -i 's/^case_workers:x:1102:/case workers:x:1102:cy/' /etc/group
for u in ann:1201 bo:1202 cy:1203 own:1204; do useradd -M -u ${u#*:} -g users ${u%:*}; done
gpasswd -M ann,bo crew; gpasswd -M bo,cy late
for u in ann bo cy own; do printf 'x\\nx\\n' | smbpasswd -s -a $u; done
"""


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        shell(found, ACCOUNTS)
        yield found


def folders() -> str:
    """A folder for each share: the guest's where guests come in, else one account's and a group's, with somebody named besides."""
    lines = []
    for name, said in SETTINGS.items():
        path = shlex.quote(f"/srv/{name}")
        owner = "nobody:nogroup" if "guest" in said and "force" not in said else "own:crew"
        lines += [f"mkdir {path}; chown {owner} {path}; chmod 2770 {path}; setfacl -m u:cy:r-x {path}"]
    return "\n".join(lines)


def sections() -> str:
    return "".join(
        f"\n[{name}]\n"
        + ("" if "path" in said else f" path = /srv/{name}\n")
        + "".join(f" {line}\n" for line in said.split("\n"))
        for name, said in SETTINGS.items()
    )


def test_each_setting_is_what_the_server_means(keelson: Host) -> None:
    shell(keelson, f"set -e; {folders()}")
    shell(keelson, "cat >> /etc/samba/smb.conf", sections())
    shell(keelson, "smbcontrol smbd reload-config")
    shell(
        keelson,
        "sharesec described --add=S-1-1-0:ALLOWED/0x0/READ; sharesec 'described for some' --remove=S-1-1-0:ALLOWED/0x0/FULL",
    )
    shell(
        keelson,
        "sharesec 'described for some' --replace=S-1-22-2-1100:ALLOWED/0x0/CHANGE,S-1-22-1-1202:DENIED/0x0/FULL",
    )
    texts = copied(runner(keelson), ["/srv"])
    reading = server.read(Plan(name="settings"), texts)
    plan, _ = apply(Plan(name="settings"), reading.edits)
    assert check(plan) == ()
    assert len(SETTINGS) >= 60
    missing = set(SETTINGS) - {share.name for share in plan.shares.values()}
    assert all(any(f"[{name}]" in note.text and note.toward == "more" for note in reading.notes) for name in missing)
    matrix = resolve(plan, ON)
    counts = Counter[str]()
    wrong = visit(keelson, matrix, counts, top="/", sign_in=sign_in)
    unsaid = [one for one in wrong if not about(plan, reading.notes, one[1], "more" if one[-1] else "less")]
    shut = writable = 0
    for share in plan.shares.values():
        for made, other in (("ann", "bo"), ("bo", "ann")):
            found = shell(keelson, f"ls /srv/{shlex.quote(share.name)} | grep '^new-{made}-'")
            if not found or share.acts_as is not None:
                continue
            sees = walk(plan, other, Over(share.id, "smb"), ON, matrix.storage)[0]
            path = shlex.quote(f"/srv/{share.name}/{found.splitlines()[0]}")
            opens = (
                shell(keelson, f"setpriv --reuid {other} --regid users --init-groups test -w {path} && echo yes")
                == "yes\n"
            )
            if sees.changes and not opens:
                shut += 1
                if not about(plan, reading.notes, share, "less"):
                    unsaid.append(("new file", share, made, other))
            writable += opens
    print(
        dict(counts),
        len(plan.shares),
        "shares",
        len(wrong),
        "differ,",
        shut,
        "new files are shut to others,",
        writable,
        "are not",
    )
    for _, share, *rest in unsaid:
        print(share.name, rest)
    assert unsaid == []
    assert shut
    assert writable


@pytest.mark.parametrize(
    ("setting", "toward"),
    [
        ("username map = /etc/samba/map", "either"),
        ("guest account = games", "either"),
        ("config file = /etc/samba/other.conf", "either"),
        ("registry shares = yes", "more"),
        ("include = registry", "either"),
        ("usershare max shares = 10", "more"),
        ("security = ads", "either"),
        ("null passwords = yes", "more"),
        ("map to guest = Bad User", None),
        ("log level = 3", None),
        ("readable = yes", None),
    ],
)
def test_what_the_general_section_says_is_told_with_its_direction(setting: str, toward: str | None) -> None:
    conf = f"[global]\n{setting}\n[a]\npath = /srv/a\n"
    lists = "# file: /srv/a\n# owner: root\n# group: root\nuser::rwx\ngroup::r-x\nother::r-x\n"
    reading = server.read(Plan(), server.Copied(smb={"smb.conf": conf}, listing=lists))
    name = setting.partition(" =")[0]
    said = [note.toward for note in reading.notes if name in note.text]
    assert said == ([toward] if toward is not None else [])


def test_a_server_without_its_other_files_comes_in_too() -> None:
    """Nothing but the configuration and the lists: who it names is the server's own, and it is told that nobody is known."""
    conf = CHARITY.conf.replace("\n map to", "[global]\n map to", 1)
    lists = "".join(
        f"# file: /srv/{name}\n# owner: x\n# group: y\nuser::rwx\ngroup::rwx\nother::---\n\n"
        for name in ("board", "money")
    )
    reading = server.read(Plan(), server.Copied(smb={"smb.conf": conf}, listing=lists))
    plan, _ = apply(Plan(), reading.edits)
    assert check(plan) == ()
    assert {share.name for share in plan.shares.values()} == {"Board", "money", "sealed"}
    assert {one.name for one in reading.unknown} == {"x", "y"}
