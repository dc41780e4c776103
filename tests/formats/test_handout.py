"""What is taken away of a rollout, with names of every kind: refused with a reason, or each command gets exactly what was meant."""

import os
import random
import subprocess
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.hostile import HOSTILE
from tests.tries import times
from yardgate import demo
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Step, steps, walked
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Group, Place, Plan, User
from yardgate.core.model.share import HostRule, Share
from yardgate.drivers.linux.commands import commands, helpers
from yardgate.drivers.linux.handout import restore_text, runbook, runbook_page, script, specs_text, typed
from yardgate.formats import descriptor, exports, nfs4_text, posix_text, smbconf
from yardgate.formats.reading import FormatError

PIECES = [
    "'", '"', "`", "$(touch HERE)", "${IFS}", ";", "|", "&", "&&", "#", "%", "%U", "[", "]", "[global]", "(rw)", "*", "?", "~", "\\",
    "--", "-rf", "-", "=", ",", ":", "@", "+", "!", "<", ">", "{a,b}", "..", ".", " ", "\t", "é", "船", "ﬁ", "a", "B", "7", "crew", "$1",
    "EOF", "\n", "\r", "\x1b[31m", "\u202e", "\u2028", "x" * 40,
]  # fmt: skip
STUB = """#!/bin/sh
for word in "$0" "$@"; do printf '%s\\0' "$word"; done >> "$HEARD"
printf '\\1\\0' >> "$HEARD"
"""
TOOLS = (
    "groupadd",
    "groupmod",
    "groupdel",
    "gpasswd",
    "useradd",
    "usermod",
    "userdel",
    "sh",
    "chown",
    "setfacl",
    "chmod",
    "rm",
    "exportfs",
)


def name(rng: random.Random, plain: float) -> str:
    if rng.random() < plain:
        return "".join(rng.choice("abcdefgh") for _ in range(6))
    if rng.random() < 0.2:
        return str(rng.choice([*HOSTILE.values()]))
    return "".join(rng.choice(PIECES) for _ in range(rng.randint(1, 4)))


def hostile(rng: random.Random) -> Plan:
    """A plan whose names are of every kind, as far as a plan can have them at all."""
    plain = rng.choice([0, 0.7, 0.95])
    users = {
        f"u{n}": User(id=f"u{n}", name=name(rng, max(plain, 0.95)), full_name=name(rng, plain), uid=3000 + n)
        for n in range(8)
    }
    groups = {
        f"g{n}": Group(id=f"g{n}", name=name(rng, plain), members=frozenset(rng.sample(list(users), 3)))
        for n in range(8)
    }
    places = {"p0": Place(id="p0", name="keel", kind="pool", acl=Posix(), enforced_by="storage")}
    places |= {
        f"p{n}": Place(id=f"p{n}", name=name(rng, max(plain, 0.9)), kind="folder", parent=f"p{n - 1}")
        for n in range(1, 8)
    }
    rule = (HostRule(hosts="192.0.2.0/24", level=Level.RW),)
    shares = {
        f"s{n}": Share(
            id=f"s{n}",
            name=name(rng, max(plain, 0.9)),
            place=f"p{n}",
            nfs=n % 2 == 0,
            hosts=rule,
            note=name(rng, plain),
        )
        for n in range(8)
    }
    grants = {place: {rng.choice([*users, *groups]): Level.RW} for place in places}
    return Plan(name=name(rng, plain), users=users, groups=groups, places=places, shares=shares, grants=grants)


def sound(plan: Plan) -> Plan:
    """Without what a plan itself refuses."""
    while bad := {trouble.object for trouble in check(plan)}:
        keep = {
            part: {k: v for k, v in getattr(plan, part).items() if k not in bad}
            for part in ("users", "groups", "shares")
        }
        places = {
            k: (p if k not in bad else Place(id=k, name=k, kind=p.kind, parent=p.parent, acl=p.acl))
            for k, p in plan.places.items()
        }
        groups = {
            k: Group(id=k, name=g.name, members=g.members & keep["users"].keys()) for k, g in keep["groups"].items()
        }
        known = {*keep["users"], *groups}
        grants = {p: {w: level for w, level in said.items() if w in known} for p, said in plan.grants.items()}
        title = plan.name if "plan" not in bad else "plan"
        plan = Plan(
            name=title,
            users=keep["users"],
            groups=groups,
            places=places,
            shares=keep["shares"],
            grants={p: g for p, g in grants.items() if g},
        )
    return plan


def heard(path: Path, folder: Path) -> list[list[str]]:
    """Every command that a script gives, as the program that is named receives it."""
    tools = folder / "tools"
    tools.mkdir(exist_ok=True)
    for tool in TOOLS:
        if not (tools / tool).exists():
            (tools / tool).write_text(STUB)
            (tools / tool).chmod(0o755)
    told = folder / "heard"
    told.unlink(missing_ok=True)
    env = {"PATH": str(tools), "HEARD": str(told)}
    done = subprocess.run(["/bin/sh", path], capture_output=True, env=env, cwd=folder)
    assert done.returncode == 0, done.stderr
    parts = told.read_bytes().split(b"\1\0")[:-1] if told.exists() else []
    return [
        [os.path.basename(part.split(b"\0")[0].decode()), *(w.decode() for w in part.split(b"\0")[1:-1])]
        for part in parts
    ]


def given(now: System, found: tuple[Step, ...]) -> list[list[str]]:
    some = []
    for step in found:
        some += [list(command.argv) for command in commands(step, now)]
        now = step.onto(now)
    return some


class Page(HTMLParser):
    """What a browser shows of a runbook: titles, headings and blocks. Nothing else may be in it than what a runbook has."""

    TAGS = frozenset(
        ["html", "head", "meta", "title", "style", "body", "h1", "h2", "p", "ul", "li", "section", "pre", "span"]
    )

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.within: list[str] = []
        self.said: dict[str, list[str]] = {tag: [] for tag in self.TAGS}

    @classmethod
    def of(cls, text: str) -> "Page":
        page = cls()
        page.feed(text)
        page.close()
        assert page.within == []
        return page

    titles = property(lambda self: self.said["h1"])
    steps = property(lambda self: self.said["h2"])
    blocks = property(lambda self: self.said["pre"])

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        assert tag in self.TAGS, tag
        assert all(key in ("lang", "charset", "class") for key, _ in attrs), attrs
        if tag != "meta":
            self.within.append(tag)
            self.said[tag].append("")

    def handle_endtag(self, tag: str) -> None:
        assert self.within.pop() == tag

    def handle_data(self, data: str) -> None:
        for tag in self.within:
            self.said[tag][-1] += data

    def handle_comment(self, data: str) -> None:
        raise AssertionError(data)


def parsed(text: str, folder: Path) -> dict[str, str]:
    """Share -> folder, as the SMB server's own parser takes a configuration."""
    path = folder / "smb.conf"
    path.write_text(text)
    done = subprocess.run(["testparm", "--suppress-prompt", path], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return taken(done.stdout)


def taken(text: str) -> dict[str, str]:
    """Share -> folder, as testparm(1) tells of them."""
    found, section = {}, ""
    for line in text.splitlines():
        if line.startswith("["):
            section = fold(line[1:-1])
        elif line.startswith("\tpath = "):
            found[section] = line.removeprefix("\tpath = ")
    return found


@pytest.mark.debian
def test_names_of_every_kind_are_refused_or_reach_each_command_as_they_are(tmp_path: Path) -> None:
    rng, names, refused, carried = random.Random(11), 0, 0, 0
    work = tmp_path / "work"
    work.mkdir()
    for _ in range(times(60, 400)):
        plan = sound(hostile(rng))
        names += len(plan.users) + len(plan.groups) + len(plan.places) + len(plan.shares)
        try:
            system = compiled(resolve(plan, ON), "/srv").system
            found = steps(System(), system)
            text = script(plan.name, System(), found, remembers=False)  # which needs the host's own programs
            runbook(plan.name, System(), found, ())
        except (PlanError, FormatError) as error:
            refused += bool(str(error))
            continue
        carried += 1
        path = tmp_path / "rollout.sh"
        path.write_text(text)
        assert heard(path, work) == given(System(), found)
        page = Page.of(runbook_page(plan.name, System(), found, (plan.name,)))
        assert page.titles == [plan.name]
        before = page.steps[:1] == ["Before"]
        assert page.steps[before:] == [
            f"{n}. {said[0].upper()}{said[1:]}" for n, said in enumerate(map(words, found), 1)
        ]
        helping = "".join(page.blocks[:before])
        for helper in helpers().values():
            helping = helping.replace(helper, "", 1)
        assert helping == ""
        assert page.blocks[before:] == [
            "\n".join(line for _, line in typed(some))
            for step, state in walked(System(), found)
            for some in (commands(step, state), commands(step.back(), step.onto(state)))
        ]
        blocks = {block.path: block for block in posix_text.blocks(restore_text(system))}
        assert {path: block.owner[1] for path, block in blocks.items() if block.owner} == {
            f.name: f.owner for f in system.folders.values()
        }
        told = parsed(smbconf.render(system.offers.values()), work)
        assert told == {fold(one.name): one.path for one in system.offers.values()}
        for folder in system.folders.values():
            listed = Ordered((Entry("allow", folder.owner, 1), Entry("deny", f"@{folder.group}", 2)))
            kept = replace(folder, listed=listed)
            value = b"".join(
                bytes.fromhex(said) if kind == "hex" else (7).to_bytes(4, "little")
                for kind, said in descriptor.pieces(kept)
            )
            assert (
                descriptor.read(value, lambda sid: "@group" if sid.startswith(descriptor.UNIX_GROUP) else "user")
                .listed.entries[1]
                .who
                == "@group"
            )
        rendered = smbconf.render(system.offers[one] for one in sorted(system.offers))
        assert {one.name: one for one in smbconf.read(rendered)} == system.offers
        assert {one.name: one for one in exports.read(exports.render(system.exports.values()))} == system.exports
        assert {file.name for file in work.iterdir()} <= {"tools", "heard", "smb.conf"}, "a name was carried out"
    print(f"{names} names in plans, {refused} plans refused, {carried} carried out")
    assert refused > 0
    assert carried > 0


@pytest.mark.parametrize("odd", HOSTILE.values(), ids=HOSTILE)
def test_a_runbook_shows_a_name_as_it_is_and_no_markup(odd: str) -> None:
    group = Group(id="g", name="g")
    plan = sound(Plan(name=odd, groups={"g": group}))
    system = compiled(resolve(plan, ON), "/srv").system
    first = runbook(plan.name, System(), steps(System(), system), (odd,)).splitlines()[0]
    assert first.startswith("# ")
    assert "<" not in first.replace("\\<", "")
    assert words(steps(System(), system)[0]) == "make the group g"


def test_ordered_lists_are_specs_that_say_the_same() -> None:
    system = demo.rolled_out(demo.plan(), ON)
    blocks = {block.path: block for block in nfs4_text.blocks(specs_text(system))}
    ordered = {name: folder.listed for name, folder in system.folders.items() if isinstance(folder.listed, Ordered)}
    assert blocks.keys() == ordered.keys() != set()
    for path, block in blocks.items():
        said = [(one.type, one.mask, one.flags, one.kind == "group", one.who) for one in block.entries]
        meant = [
            (e.type, e.mask, e.flags, e.who.startswith("@"), e.who.removeprefix("@")) for e in ordered[path].entries
        ]
        assert said == meant
