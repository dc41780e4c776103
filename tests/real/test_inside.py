"""Pushing lists down over what lies in folders of a real host: afterwards each thing is as if it had been made there, and back exactly."""

import random
import shlex
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import ON
from tests.real.host import Host, host
from tests.real.smbd_child import PASSWORD
from tests.real.test_host import TOP, office, roll, runner, shell, visit
from tests.tries import times
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered, Posix, PosixEntry, posix
from yardgate.core.acl.nfs4 import EVERYTHING_BELOW, INHERIT_ONLY, NO_PROPAGATE_INHERIT
from yardgate.core.acl.posix import Tag, created
from yardgate.core.acl.rights import FULL, MASK_OF, WRITE_ACL, WRITE_OWNER, Level
from yardgate.core.host.compiled import compiled
from yardgate.core.host.contents import Correction, apart, pushes
from yardgate.core.host.state import Folder, HostAccount, HostGroup, Offer, System
from yardgate.core.host.steps import Destination
from yardgate.core.model.plan import Plan
from yardgate.drivers.linux.apply import put_back
from yardgate.drivers.linux.contents import give, inside
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read
from yardgate.jobs.push_downs import PushDownJobs
from yardgate.store import Plans, Store
from yardgate.store.pushes import Counted, Pushing

JUNK = (
    "u::rwx,g::---,o::---",
    "u::rw-,g::rwx,u:nobody:rwx,m::r-x,o::rwx",
    "u::r-x,g::r-x,o::r-x",
    "u::---,g::rwx,o::---",
)


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


def otherwise(at: Host, there: System) -> list[Correction]:
    """Everything in all planned folders that has something else than it would get if it were made there."""
    run = runner(at)
    portions = ((folder, inside(run, folder.name, apart(there, folder.name))) for folder in there.folders.values())
    return [push for folder, found in portions for _, things in found for push in pushes(folder, things)]


def push(at: Host, there: System) -> list[Correction]:
    found = otherwise(at, there)
    give(runner(at), [one.then for one in found])
    return found


def test_what_was_pushed_is_for_everybody_as_if_it_had_been_made_there(keelson: Host) -> None:
    now, counts, wrong = System(), Counter[str](), []
    for seed in range(100, 100 + times(2, 100)):
        matrix = resolve(office(seed), ON)
        there, _ = roll(keelson, now, compiled(matrix, TOP).system)
        rng = random.Random(seed)

        def ready(there: System = there, rng: random.Random = rng) -> None:
            spoil(keelson, rng)
            counts["pushed"] += len(push(keelson, there))
            assert otherwise(keelson, there) == []

        wrong += visit(keelson, matrix, counts, ready=ready)
        now = there
    assert not wrong, (len(wrong), wrong[:5])
    assert counts["pushed"] > 30
    assert counts["answers"] > 50


def spoil(at: Host, rng: random.Random, where: str = TOP) -> None:
    """Let things have lists, groups and descriptors that somebody else would have given them."""
    lines = []
    for name in shell(at, f"find {shlex.quote(where)} -mindepth 1 -type f -print0").split("\0"):
        if name:
            quoted = shlex.quote(name)
            lines += [f"setfacl --set {rng.choice(JUNK)} {quoted}", f"chgrp {rng.choice(['root', 'nogroup'])} {quoted}"]
            lines += [f"setfattr -x security.NTACL {quoted} 2>/dev/null"] * rng.randrange(2)
    shell(at, "sh", "\n".join(lines))


def rwx(*entries: tuple[Tag, str, int]) -> tuple[PosixEntry, ...]:
    return posix.in_order(PosixEntry(*entry) for entry in entries)


CREW = rwx(
    ("user", "", 7), ("user", "cy", 5), ("group", "", 7), ("group", "crew", 7), ("mask", "", 7), ("other", "", 0)
)
WRITES, READS = FULL & ~(WRITE_ACL | WRITE_OWNER), MASK_OF[Level.RO]
YARD = System(
    groups={name: HostGroup(name=name) for name in ("crew", "office")},
    accounts={
        name: HostAccount(name=name, primary="crew" if name != "cy" else "office") for name in ("ada", "ben", "cy")
    },
    members={},
    folders={
        "/srv/hulls": Folder(name="/srv/hulls", owner="ada", group="crew", listed=Posix(CREW, CREW, setgid=True)),
        "/srv/bits": Folder(
            name="/srv/bits",
            group="crew",
            listed=Posix(rwx(("user", "", 7), ("group", "", 7), ("other", "", 5)), setgid=True),
        ),
        "/srv/masts": Folder(
            name="/srv/masts",
            group="crew",
            listed=Ordered(
                (
                    Entry("deny", "cy", WRITES & ~READS),
                    Entry("allow", "cy", READS),
                    Entry("allow", "@crew", WRITES),
                    Entry("allow", "ada", FULL, EVERYTHING_BELOW | NO_PROPAGATE_INHERIT),
                    Entry("allow", "owner@", FULL, EVERYTHING_BELOW | INHERIT_ONLY),
                )
            ),
        ),
    },
    offers={
        name: Offer(name=name, path=f"/srv/{name}", writes=("ada", "ben", "cy"), ordered=name == "masts")
        for name in ("hulls", "bits", "masts")
    },
)


@pytest.fixture
def yard(keelson: Host) -> Iterator[System]:
    """A host with three folders, each of another kind of list, where nothing was pushed yet."""
    before = read(runner(keelson), YARD)
    shell(keelson, "rm -rf /srv/*")
    there, carried = roll(keelson, replace(before, folders={}), YARD)
    try:
        for name in YARD.accounts:
            shell(keelson, f"smbpasswd -s {name}", f"{PASSWORD}\n{PASSWORD}\n")
        yield there
    finally:
        shell(keelson, "rm -rf /srv/*/*")
        assert put_back(LinuxHost(runner(keelson)), there, carried).failed is None


def as_client(at: Host, who: str, share: str, orders: str) -> str:
    return shell(at, f"cd /etc && smbclient //127.0.0.1/{share} -U {who}%{PASSWORD} -c {shlex.quote(orders)} 2>&1")


def test_what_clients_make_needs_no_push_and_is_everybodys_to_go_on_with(keelson: Host, yard: System) -> None:
    made = (
        "mkdir a",
        "mkdir a\\b",
        "put hostname a\\b\\one",
        "put hostname two",
        "mkdir a\\b\\c",
        "put hostname a\\b\\c\\three",
    )
    for share in yard.offers:
        for who in ("ada", "ben"):
            said = as_client(keelson, who, share, "; ".join(["mkdir " + who, "cd " + who, *made]))
            assert "NT_STATUS" not in said, said
    assert otherwise(keelson, yard) == []
    for share in yard.offers:
        said = as_client(keelson, "ben", share, "put hosts ada\\two; put hosts ada\\a\\b\\c\\three; del ada\\a\\b\\one")
        assert "NT_STATUS" not in said, (share, said)


def test_what_somebody_deleted_is_theirs_after_pushing_too(keelson: Host, yard: System) -> None:
    keeping = {**yard.offers, "hulls": replace(yard.offers["hulls"], recycle=True)}
    there, _ = roll(keelson, yard, replace(yard, offers=keeping))
    assert "NT_STATUS" not in as_client(keelson, "ada", "hulls", "put hostname secret; del secret")
    reads = "get .recycle\\ada\\secret /dev/null"
    assert "NT_STATUS_ACCESS_DENIED" in as_client(keelson, "ben", "hulls", reads)
    shell(keelson, "touch /srv/hulls/left; chmod 600 /srv/hulls/left; mkdir -m 700 /srv/hulls/lost+found")
    assert [one.was.name for one in push(keelson, there)] == ["/srv/hulls/left"]
    assert "NT_STATUS_ACCESS_DENIED" in as_client(keelson, "ben", "hulls", reads)
    assert "NT_STATUS" not in as_client(keelson, "ada", "hulls", reads)
    shell(keelson, "rm -rf /srv/hulls/.recycle")
    roll(keelson, there, yard)


HOSTILE = (
    "-rf",
    "a b",
    "it's",
    '"',
    "$(touch oops)",
    "`id`",
    "new\nline",
    "back\\slash",
    "\\c",
    "\\0101",
    "*",
    "[a]",
    "%b",
    "ü",
    "\udcff\udcfe",
    " lead",
    "trail ",
    "tab\t",
    "#",
    "\u2028",
    "~",
)


@pytest.mark.parametrize("folder", ["hulls", "bits", "masts"])
def test_names_and_links_lead_nowhere_and_all_is_put_back(keelson: Host, yard: System, folder: str) -> None:
    top = f"/srv/{folder}"
    names = "\0".join(HOSTILE) + "\0"
    shell(
        keelson,
        f"cd {top}; mkdir -p deep/er 'x y'; for d in . deep deep/er 'x y'; do (cd \"$d\"; xargs -0 touch --); done",
        names,
    )
    shell(keelson, f"cd {top}/deep; xargs -0 mkdir -p --", "\0".join(f"d{name}" for name in HOSTILE) + "\0")
    shell(
        keelson,
        f"mkdir -p /srv/secret; echo word > /srv/secret/word; chmod 700 /srv/secret; ln -s /srv/secret {top}/lnk; ln -s /srv/secret/word {top}/deep/lnk; mkfifo {top}/pipe",
    )
    shell(keelson, f"for d in . deep deep/er 'x y'; do (cd {top}/\"$d\"; xargs -0 touch --); done", names)
    spoil(keelson, random.Random(folder), top)
    snapshot = (
        f"cd /; getfacl -R -p {top} /srv/secret; getfattr -h -R -d -m security.NTACL -e hex --absolute-names {top}"
    )
    before = shell(keelson, snapshot)
    secret = shell(keelson, "getfacl -R -p /srv/secret")
    done = push(keelson, yard)
    assert {name for one in done for name in (one.was.name.rpartition("/")[2],)} >= set(HOSTILE)
    assert otherwise(keelson, yard) == []
    assert shell(keelson, "getfacl -R -p /srv/secret") == secret
    assert not any("lnk" in one.was.name or "pipe" in one.was.name for one in done)
    assert push(keelson, yard) == []
    give(runner(keelson), [one.was for one in done])
    assert shell(keelson, snapshot) == before


def test_what_is_taken_away_meanwhile_or_led_elsewhere_is_left_alone(keelson: Host, yard: System) -> None:
    shell(
        keelson,
        "cd /srv/hulls; mkdir there gone; touch there/one gone/two; chmod 600 there/* gone/*; mkdir /srv/aside; touch /srv/aside/one; chmod 600 /srv/aside/one",
    )
    found = otherwise(keelson, yard)
    shell(keelson, "cd /srv/hulls; rm -r gone; mv there was; ln -s /srv/aside there")
    give(runner(keelson), [one.then for one in found])
    assert shell(keelson, "stat -c %a /srv/aside/one") == "600\n"
    left = {one.was.name for one in otherwise(keelson, yard)}
    assert left == {"/srv/hulls/was/one"}


def test_folders_of_their_own_are_left_to_their_own_lists(keelson: Host, yard: System) -> None:
    apart_too = replace(YARD.folders["/srv/bits"], name="/srv/hulls/o*n")
    shell(keelson, "cd /srv/hulls; mkdir 'o*n' oxn; touch 'o*n/one' oxn/one; chmod 600 oxn/one 'o*n/one'")
    found = otherwise(keelson, replace(yard, folders={**yard.folders, "/srv/hulls/o*n": apart_too}))
    groups = {one.was.name: one.then.listed for one in found}
    assert groups["/srv/hulls/oxn/one"] == Posix(created(CREW, 0o666))
    assert groups["/srv/hulls/o*n/one"] == Posix(rwx(("user", "", 6), ("group", "", 6), ("other", "", 4)))


FILES = times(2_000, 100_000)


def test_many_files_are_pushed_over_with_progress_stopped_gone_on_with_and_put_back(
    keelson: Host, yard: System, tmp_path: Path
) -> None:
    top, total = "/srv/hulls", FILES + FILES // 100
    shell(
        keelson,
        f"cd {top}; for d in $(seq {FILES // 100}); do mkdir -m 700 d$d; (cd d$d; seq 100 | xargs touch; chmod 600 *); done",
    )
    snapshot = f"getfacl -R -p {top} | sha256sum"
    before = shell(keelson, snapshot)
    store = Store(tmp_path / "yardgate.sqlite")
    plan = Plans(store).create(Plan(name="many files"), "ann").id
    pushers = PushDownJobs(store, lambda *_, **__: nullcontext(LinuxHost(runner(keelson))))

    def does(one: Pushing, stop_at: int = total + 1) -> tuple[Pushing, Counted, int]:
        """Until it ends: how it ended, what it counted, and how many different sights of its progress there were."""
        pushers.start(one)
        seen = set()
        while True:
            now = pushers.pushes.newest(plan)
            assert now is not None
            counted = now.counts.get(top, Counted())
            seen.add((counted.seen, counted.changed))
            if counted.changed >= stop_at:
                pushers.stop(plan)
            if now.state != "under way":
                return now, counted, len(seen)
            time.sleep(0.02)

    looked, counted, _ = does(pushers.pushes.begin(plan, "ann", Destination(), yard, [top]))
    assert (looked.state, counted.otherwise) == ("done", total)
    stopped, first, sights = does(pushers.pushes.go_on(looked, "push"), total // 3)
    assert stopped.state == "stopped"
    assert total // 3 <= first.changed < total
    done, rest, more = does(pushers.pushes.go_on(stopped, "push"))
    assert (done.state, first.changed + rest.changed, rest.kept) == ("done", total, 0)
    print(f"{total} things, stopped at {first.changed}, {sights + more} sights of progress")
    assert sights + more > 5
    again, counted, _ = does(pushers.pushes.go_on(done, "look"))
    assert (again.state, counted.otherwise) == ("done", 0)
    assert shell(keelson, snapshot) != before
    back, counted, _ = does(pushers.pushes.go_on(again, "put back"))
    assert (back.state, counted.changed) == ("done", total)
    assert shell(keelson, snapshot) == before
    store.close()
