"""Rolling plans out on a real Linux file server: read back as meant, entered by real clients as the plan says, put back exactly."""

import os
import random
import re
import shlex
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from pydantic import TypeAdapter

from tests.conftest import ON
from tests.formats.test_handout import hostile, sound, taken
from tests.real.host import Host, host
from tests.real.storage import FIRST_UID, by_hand
from tests.real.test_shares import ACTS
from tests.tries import times
from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.combining import RULES
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import outcome, shifts
from yardgate.core.access.storage import PosixState
from yardgate.core.access.walk import walk
from yardgate.core.acl import Ordered, Posix
from yardgate.core.acl.nfs4 import GROUP, OWNER, files_of, spelled
from yardgate.core.acl.rights import GRANTABLE, Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Join
from yardgate.core.host.compiled import compiled, host_names, marked, paths
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import PARTS, Folder, Offer, System, asked
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import after as after_steps
from yardgate.core.host.steps import drift, stands, steps
from yardgate.core.model.checks import PlanError
from yardgate.core.model.kinds import check
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import EVERYONE, GUEST, LOCAL, Group, Place, Plan, Target, User
from yardgate.core.model.share import HostRule, Over, Share
from yardgate.drivers.appliance import ApplianceError, RolloutUnderWay, TooLate
from yardgate.drivers.linux.apply import Carried, carry_out, put_back
from yardgate.drivers.linux.command import Command, Done, Runner
from yardgate.drivers.linux.commands import KEEP, descriptor_text, list_text
from yardgate.drivers.linux.handout import restore_text, runbook, script
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import read
from yardgate.drivers.linux.watch import Watch
from yardgate.formats import planfile

TOP = "/srv"
SNAPSHOT = """cd /; sort /etc/passwd /etc/group; cut -d: -f1,8 /etc/shadow | sort; getfacl -R -p /srv; getfattr -R -d -m security.NTACL -e hex --absolute-names /srv; ls -A /etc/exports.d; cat /etc/exports.d/* /etc/samba/smb.conf
ls -A /etc/samba; pdbedit -L -v -d0 | grep -E 'Unix username|Account Flags|Kickoff'"""


def office(seed: int, places: int = 5) -> Plan:
    """People, a tree with lists of any style, grants carried by anything, and up to three shares: as a host has them."""
    rng = random.Random(f"office-{seed}")
    ordered = seed % 3 == 2  # kept by the SMB server alone, which lets everybody pass and read attributes
    plan = by_hand(seed, "ordered" if ordered else "kernel", places)
    kept = [user for user in plan.users if rng.random() < 0.85] or ["u0"]
    users = {
        user: replace(
            plan.users[user],
            uid=FIRST_UID + number + moved(seed, user)
            if rng.random() < 0.9 or plan.users[user].uid == 0
            else plan.users[user].uid,
            enabled=rng.random() < 0.85,
            expires=rng.choice([None, None, None, ON + timedelta(days=90), ON + timedelta(days=4000)]),
            full_name=rng.choice(["", f"Nr {number}"]),
        )
        for number, user in enumerate(plan.users)
        if user in kept
    }
    named = {*users, *plan.groups}
    groups = {g.id: replace(g, members=frozenset(m for m in g.members if m in named)) for g in plan.groups.values()}
    places = {
        p.id: replace(
            p,
            owner=p.owner if p.owner in {*users, "root"} else None,
            acl=_without(p.acl, named),
            enforced_by=rng.choice([p.enforced_by, None, "share", "both"]),
        )
        for p in plan.places.values()
    }
    places = {
        p.id: replace(p, enforced_by=p.enforced_by or "storage") if p.kind == "pool" else p for p in places.values()
    }
    whos = [*users, *groups, EVERYONE]
    grants = {
        p: {who: rng.choice(GRANTABLE) for who in rng.sample(whos, min(len(whos), rng.randint(1, 5)))}
        for p in places
        if rng.random() < 0.5
    }
    shares = {}
    for number in range(rng.randint(1, 3)):
        shares[f"s{number}"] = Share(
            id=f"s{number}",
            name=rng.choice(["work", "Slip way", "hulls_2", "o'neil & co", "år"])
            + (f" {number}" if rng.random() < 0.7 else f"-{number}"),
            place=rng.choice(list(places)),
            nfs=rng.random() < 0.3,
            hosts=(
                HostRule(hosts="192.0.2.0/24", level=rng.choice(GRANTABLE)),
                HostRule(hosts="192.0.2.7", level=Level.RO),
            ),
            guests=rng.choice([Level.NA, Level.NA, Level.RO, Level.RW]),
            read_only=rng.random() < 0.2,
            hidden=rng.random() < 0.3,
            hide_unreadable=rng.random() < 0.4,
            administrator=rng.choice([None, None, None, *whos[:-1]]),
        )
    over_nfs = {
        share.place: share.id for share in shares.values() if share.nfs
    }  # one a folder, as such a server has it
    shares = {s.id: replace(s, nfs=over_nfs.get(s.place) == s.id) for s in shares.values()}
    tiers, within = rng.choice(RULES)
    target = Target(
        precedence=tiers,
        combining=within,
        baseline=rng.choice([None, "g0"]),
        administrators=rng.choice([None, None, "g1"]),
        traverse="bypassed" if ordered else "checked",
        attributes_open=ordered,
        share_groups=seed % 4 != 0,  # as new plans have it, and now and then as older ones
    )
    made = Plan(
        name=f"office {seed}", target=target, users=users, groups=groups, places=places, grants=grants, shares=shares
    )
    assert check(made) == ()
    return made


def moved(seed: int, user: str) -> int:
    """Now and then somebody has another number than in the plan before."""
    return 50 if random.Random(f"moved-{seed}-{user}").random() < 0.1 else 0


def _without(own: Any, named: set[str]) -> Any:
    if isinstance(own, Ordered):
        return Ordered(tuple(e for e in own.entries if e.who in {*named, OWNER, GROUP, EVERYONE}))
    if not isinstance(own, Posix):
        return own
    access, default = (
        part and tuple(e for e in part if not e.who or e.who in named) for part in (own.access, own.default)
    )
    return replace(own, access=access, default=default)


@pytest.fixture(scope="module")
def keelson() -> Iterator[Host]:
    with host() as found:
        yield found


def runner(at: Host) -> Runner:
    def run(command: Command) -> Done:
        return Done(*at.ask("run", argv=command.argv, given=command.given))

    return run


def shell(at: Host, text: str, given: str = "") -> str:
    code, out, err = at.ask("run", argv=["sh", "-c", text], given=given)
    return f"{out}{err}" if code else out


def roll(at: Host, now: System, wanted: System) -> tuple[System, Carried]:
    """Roll out, and look whether everything stands."""
    found = steps(now, wanted)
    carried = carry_out(LinuxHost(runner(at)), now, found)
    assert carried.failed is None, (carried.failed, carried.why)
    after = read(runner(at), asked(now, wanted))
    for part in PARTS:
        for name, record in wanted.part(part).items():
            assert stands(after.part(part).get(name), record), (name, after.part(part).get(name), record)
    assert steps(after, wanted) == ()
    return after, carried


@pytest.mark.parametrize("first", range(0, times(100, 2000), 10))
def test_plans_are_rolled_out_one_after_the_other_and_put_back(first: int) -> None:
    """Each on top of the one before, on a host that had none; the last ones are put back, in every fifth round all of them."""
    counts, wrong = Counter[str](), []
    with host() as at:
        run, now = runner(at), System()
        past: list[tuple[str, System, Carried]] = []
        for seed in range(first, first + 10):
            matrix = resolve(office(seed), ON)
            wanted = compiled(matrix, TOP).system
            now = read(run, asked(now, wanted))
            before = shell(at, f"find /srv -type f -delete; {SNAPSHOT}")
            after, carried = roll(at, now, wanted)
            past.append((before, now, carried))
            counts["steps"] += len(carried.done)
            own = "own groups" if matrix.plan.target.share_groups else "no own groups"
            counts[f"shares, {own}"] += len(wanted.offers)
            counts[f"shares that name people, {own}"] += sum(
                bool(_people_in(offer)) for offer in wanted.offers.values()
            )
            counts.update(step.does for step in carried.done)
            now = after
            wrong += visit(at, matrix, counts)
        shell(at, "find /srv -type f -delete")
        for before, start, carried in reversed(past[0 if first % 50 == 0 else -3 :]):
            undone = put_back(LinuxHost(run), now, carried)
            assert undone.failed is None, undone.why
            now = read(run, asked(now, start))
            assert shell(at, SNAPSHOT) == before
    print(dict(counts), f"{len(wrong)} differ")
    for one in wrong[:20]:
        print(one)
    assert wrong == []
    assert all(counts[act] for act in ACTS)
    assert counts["shares, own groups"]
    assert not counts["shares that name people, own groups"]


def _people_in(offer: Offer) -> frozenset[str]:
    return frozenset(name for name in (*offer.named, *offer.roots) if not name.startswith(GROUP_MARK))


def test_whatever_fails_in_the_middle_everything_is_put_back(keelson: Host) -> None:
    """Each command of a rollout made to fail in turn, on an empty host and on one that has a plan already."""
    first, then = (compiled(resolve(office(seed), ON), TOP).system for seed in (3, 4))
    before = shell(keelson, SNAPSHOT)
    fails(keelson, System(), first)
    now = read(runner(keelson), asked(first, then))
    _, carried = roll(keelson, now, first)
    fails(keelson, first, then)
    assert put_back(LinuxHost(runner(keelson)), after_steps(now, carried.done), carried).failed is None
    assert shell(keelson, SNAPSHOT) == before


def test_an_account_that_is_just_in_use_is_waited_for(keelson: Host) -> None:
    """shadow's tools delete and rename no account that a process acts as: a session that is ending is waited for, one that stays is told."""
    run = runner(keelson)
    one = compiled(resolve(office(3), ON), TOP).system
    now, carried = roll(keelson, read(run, asked(one)), one)
    account = next(iter(one.accounts.values())).name
    acting = f"setsid setpriv --reuid={account} --clear-groups sleep {{}} < /dev/null > /dev/null 2>&1 & echo $!"
    shell(keelson, acting.format(3))
    assert put_back(LinuxHost(run), after_steps(now, carried.done), carried).failed is None
    now, carried = roll(keelson, read(run, asked(one)), one)
    pid = shell(keelson, acting.format(600)).strip()
    undone = put_back(LinuxHost(run), after_steps(now, carried.done), carried)
    assert f"user {account} is currently used by process {pid}" in undone.why
    shell(keelson, f"kill {pid}")
    assert put_back(LinuxHost(run), after_steps(now, carried.done), carried).failed is None


def fails(at: Host, first: System, then: System) -> None:
    """Roll one out on the other, again and again, each time another command of it failing: not done at all, or done and not said so."""
    run, total = runner(at), 0
    before, start = shell(at, SNAPSHOT), read(run, asked(first, then))
    found = steps(start, then)

    def counting(command: Command) -> Done:
        nonlocal total
        total += command.changes
        return run(command)

    whole = carry_out(LinuxHost(counting), start, found)
    assert whole.failed is None
    assert put_back(LinuxHost(run), after_steps(start, whole.done), whole).failed is None
    assert shell(at, SNAPSHOT) == before
    numbers = sorted(random.Random(1).sample(range(total), times(6, total)))
    for number in numbers:
        seen = -1

        def failing(command: Command, number: int = number) -> Done:
            nonlocal seen
            seen += command.changes
            if not command.changes or seen != number:
                return run(command)
            done = run(command) if number % 2 else None
            return Done(1, "", f"no more after {number}, {'done' if done else 'not done'}")

        broken = carry_out(LinuxHost(failing), start, found)
        assert broken.failed is not None
        assert f"no more after {number}" in broken.why
        undone = put_back(LinuxHost(run), after_steps(start, broken.done), broken)
        assert undone.failed is None, (number, broken.failed, undone.why)
        assert shell(at, SNAPSHOT) == before, (number, broken.failed)
    print(f"{total} commands in {len(found)} steps, {len(numbers)} of them made to fail")


def test_whoever_joins_a_group_on_the_host_gets_what_the_plan_would_give_without_a_rollout() -> None:
    counts, wrong = Counter[str](), []
    with host() as at:
        run, now = runner(at), System()
        for seed in range(500, 500 + times(20, 200)):
            plan = office(seed)
            before = outcome(resolve(plan, ON))
            wanted = compiled(before.matrix, TOP).system
            pairs = [
                (u, g) for u in plan.users for g in plan.groups if g not in token(plan, u) and plan.users[u].active(ON)
            ]
            joins = []
            for user, group in random.Random(seed).sample(pairs, min(len(pairs), 40)):
                then, _ = apply(plan, [Join(group, user)])
                after = outcome(resolve(then, ON))
                if shifts(before, after):
                    found = steps(wanted, compiled(after.matrix, TOP).system)
                    counts["one step" if len(found) == 1 else "more"] += 1
                    joins += [(found[0].record.name, user, after.matrix)] if len(found) == 1 else []
            if joins:
                group, user, matrix = joins[0]
                roll(at, now, wanted)
                shell(at, f"gpasswd --add {plan.users[user].name} {group}")
                wrong += visit(at, matrix, counts)
                now = read(run, asked(now, wanted))
                counts["joined"] += 1
    print(dict(counts), f"{len(wrong)} differ")
    assert wrong == []
    assert counts["joined"] > times(5, 50)


def visit(
    at: Host,
    matrix: Matrix,
    counts: Counter[str],
    top: str = TOP,
    ready: Callable[[], object] = lambda: None,
    sign_in: Callable[[Plan, str], dict[str, str]] = lambda _plan, who: {"name": "" if who == GUEST else who},
) -> list[Any]:
    """Everybody goes into every share with a real client; where it comes out otherwise than the plan says.

    ready: what is done before with the files that they look for. sign_in: as whom somebody does it."""
    plan, where = matrix.plan, paths(matrix.plan, top)
    subjects = [*(user.id for user in plan.users.values() if not user.of_host), GUEST, "stranger"]
    marks = {share.name: f"-{number}" for number, share in enumerate(plan.shares.values())}
    shell(
        at,
        "find /srv -type f -delete; umask 0; sh",
        files(matrix, [f"{s}{m}" for s in subjects for m in marks.values()], top),
    )
    ready()
    seen = {
        share.name: [visit.place for visit in walk(plan, subjects[0], Over(share.id, "smb"), ON, matrix.storage)]
        for share in plan.shares.values()
    }
    inside = {
        share.name: [os.path.relpath(where[place], where[share.place]) for place in seen[share.name]]
        for share in plan.shares.values()
    }
    task = {
        "passwords": [user.name for user in plan.users.values() if user.origin == LOCAL and not user.of_host],
        "subjects": [{"id": subject, **sign_in(plan, subject)} for subject in subjects],
        "folders": {name: ["" if p == "." else p.replace("/", "\\") for p in some] for name, some in inside.items()},
        "marks": marks,
    }
    answers = at.ask("python", script=str(Path(__file__).with_name("visits_child.py")), task=task)
    wrong = []
    for share in plan.shares.values():
        for subject in subjects:
            visits = walk(plan, GUEST if subject == "stranger" else subject, Over(share.id, "smb"), ON, matrix.storage)
            real = answers[f"{subject} {share.name}"]
            counts["answers"] += 1
            about = (plan.name, share, subject)
            if (real is not None) != visits[0].shown:
                wrong.append((*about, "connects", real is not None))
            listing = {v.place: set(one["names"]) for v, one in zip(visits, real or (), strict=False)}
            for v, one in zip(visits, real or (), strict=False):
                counts["answers"] += len(ACTS)
                counts.update(act for act in ACTS if one[act])
                parent = plan.places[v.place].parent
                if parent in listing and (shown := plan.places[v.place].name in listing[parent]) != v.shown:
                    wrong.append((*about, v.place, "shown", shown))
                wrong += [(*about, v.place, act, one[act]) for act in ACTS if one[act] != getattr(v, act)]
    return wrong


ALIKE = "alike"  # gives the ordered list of the first of some files to all of them
ALIKE_IS = """alike() {
  v=$(getfattr --absolute-names --name=security.NTACL --encoding=hex -- "$1" | sed -n 's/^security.NTACL=//p')
  setfattr --name=security.NTACL --value="$v" -- "$@"
}"""


def files(matrix: Matrix, subjects: Sequence[str], top: str) -> str:
    """A script that makes the files which visitors look for, each as the list of its folder has it."""
    lines, called = [ALIKE_IS], host_names(matrix.plan)
    for place, path in paths(matrix.plan, top).items():
        stored = matrix.storage[place]
        names = ["plain", *(f"doomed-{subject}" for subject in subjects)]
        made = " ".join(shlex.quote(f"{path}/{name}") for name in names)
        owner, group = called[stored.owner], called[stored.group]
        lines += [f"touch {made}", f"chown {shlex.quote(f'{owner}:{group}')} {made}"]
        if isinstance(stored.list, PosixState):
            text = list_text(Posix(tuple(replace(e, who=called.get(e.who, e.who)) for e in stored.list.file)))
            lines.append(f"printf '%s' {shlex.quote(text)} | setfacl --set-file=- -- {made}")
        elif stored.list is not None:
            whos = marked(matrix.plan, called)
            own = (replace(e, who=whos.get(e.who, e.who)) for e in stored.list.entries)
            entries = spelled(files_of(tuple(own)), owner, f"@{group}")
            text = descriptor_text(Folder(name="", owner=owner, group=group, listed=Ordered(entries)))
            keep = f"printf '%s' {shlex.quote(text)} | sh -euc {shlex.quote(KEEP)} sh"
            lines += [f"chmod a=rw {made}", f"{keep} {made}", f"{ALIKE} {made}"]
    return "\n".join(lines)


def test_shares_count_as_the_server_has_them_not_as_the_file_says() -> None:
    """The include line taken away, settings added by hand under the same name, another default: drift, and put right where a rollout can."""
    with host() as at:
        run, wanted = runner(at), compiled(resolve(office(9), ON), TOP).system
        now, _ = roll(at, System(), wanted)
        main = shell(at, "cat /etc/samba/smb.conf")
        shell(at, "sed -i '/^ include = .*yardgate/d' /etc/samba/smb.conf")
        found = read(run, asked(now))
        assert wanted.offers
        assert found.offers == {}, "no client sees any of them"
        assert {words(step) for step in drift(now, found)} == {
            f"stop sharing {one.name} over SMB; {one.path} stays as it is" for one in now.offers.values()
        }
        again, _ = roll(at, found, wanted)
        assert again == now
        shell(at, "cat > /etc/samba/smb.conf", main)
        name, one = next(iter(now.offers.items()))
        shell(
            at,
            "cat >> /etc/samba/smb.conf",
            f"[{name}]\n hosts deny = ALL\n read only = {'yes' if one.usual == Level.RW else 'no'}\n",
        )
        found = read(run, asked(now))
        assert found.offers[name].foreign == ("hosts deny = ALL",)
        assert found.offers[name].usual != one.usual
        (step,) = drift(now, found)
        assert "also hosts deny = ALL" in words(step)
        carried = carry_out(LinuxHost(run), found, steps(found, wanted))
        assert carried.failed is not None, "another section of that name beats what a rollout writes, and it is told"
        assert "hosts deny = ALL" in carried.why
        shell(
            at, "cat > /etc/samba/smb.conf", main.replace("[global]", "[global]\n read only = no\n guest ok = yes\n", 1)
        )
        assert read(run, asked(now)).offers == now.offers, "a default that a share overrides is no drift"


def test_planned_numbers_are_taken_before_the_host_gives_free_ones(keelson: Host) -> None:
    shell(keelson, "groupadd probe")
    free = int(shell(keelson, "getent group probe").split(":")[2])
    shell(keelson, "groupdel probe")
    users = {"ann": User(id="ann", name="ann"), "zoe": User(id="zoe", name="zoe", uid=free + 1, primary_group="zeta")}
    groups = {"zeta": Group(id="zeta", name="zeta", gid=free), "yard": Group(id="yard", name="yard", gid=free + 1)}
    before = shell(keelson, SNAPSHOT)
    wanted = compiled(resolve(Plan(users=users, groups=groups), ON), TOP).system
    now, carried = roll(keelson, read(runner(keelson), asked(wanted)), wanted)
    assert now.groups["zeta"].gid == free
    assert now.groups["ann"].gid not in (free, free + 1)
    assert put_back(LinuxHost(runner(keelson)), now, carried).failed is None
    assert shell(keelson, SNAPSHOT) == before


def test_a_renamed_folder_keeps_what_is_in_it_and_goes_back_with_it(keelson: Host) -> None:
    top = Place(id="keel", name="keel", kind="pool", acl=Posix(), enforced_by="storage")
    desk = Place(id="desk", name="ann", kind="folder", parent="keel")
    plan = Plan(users={"ann": User(id="ann", name="ann")}, places={"keel": top, "desk": desk})
    before = shell(keelson, SNAPSHOT)
    wanted = compiled(resolve(plan, ON), TOP).system
    first, carried = roll(keelson, read(runner(keelson), asked(wanted)), wanted)
    shell(keelson, f"echo mine > {TOP}/keel/ann/letter")
    other = replace(plan, places={"keel": top, "desk": replace(desk, name="anna own")})
    wanted = compiled(resolve(other, ON), TOP).system
    now, again = roll(keelson, read(runner(keelson), asked(first, wanted)), wanted)
    assert [words(step) for step in again.done] == [
        f"rename the folder {TOP}/keel/ann to {TOP}/keel/anna own, with all that is in it"
    ]
    renamed = f"{TOP}/keel/anna own"
    assert shell(keelson, f"cat {shlex.quote(renamed + '/letter')}; test ! -e {TOP}/keel/ann") == "mine\n"
    assert put_back(LinuxHost(runner(keelson)), now, again).failed is None
    assert shell(keelson, f"cat {TOP}/keel/ann/letter; rm {TOP}/keel/ann/letter") == "mine\n"
    assert put_back(LinuxHost(runner(keelson)), first, carried).failed is None
    assert shell(keelson, SNAPSHOT) == before


def test_servers_that_do_not_run_are_started_and_stopped_again() -> None:
    """Dead, and not started with the host: drift says so, steps start them, and taking it back stops them. Without such a step none begins."""
    with host() as at:
        run, wanted = runner(at), compiled(resolve(office(9), ON), TOP).system
        assert wanted.services.keys() == {"smb", "nfs"}
        now, _ = roll(at, read(run, asked(wanted)), wanted)
        assert now.services == wanted.services
        appliance = LinuxHost(run)
        shell(at, "smbcontrol smbd shutdown; while smbcontrol smbd ping; do sleep 0.1; done; update-rc.d smbd disable")
        shell(at, "service nfs-kernel-server stop")
        found = read(run, asked(now))
        assert [words(step) for step in drift(now, found)] == [
            "the NFS server: stop it",
            "the SMB server: stop it and let it not start with the host any more",
        ]
        with pytest.raises(ApplianceError, match=r"the SMB server \(smbd\) does not run there"):
            appliance.arm(found, [step for step in steps(System(), wanted) if step.part == "offers"], 600)
        with pytest.raises(ApplianceError, match="does not run there"), appliance.trial(()):
            pass
        missing = steps(found, wanted)
        assert [words(step) for step in missing] == [
            "the NFS server: start it",
            "the SMB server: start it and let it start with the host",
        ]
        appliance.arm(found, missing, 600)
        appliance.end()
        again, carried = roll(at, found, wanted)
        assert again == now
        listed = shell(at, "smbclient -N -L 127.0.0.1 2>&1")
        assert all(one.name in listed for one in wanted.offers.values() if not one.hidden), "clients are served"
        assert put_back(appliance, again, carried).failed is None
        assert read(run, asked(now)).services == found.services
        ran = shell(at, "sh -eu -s", script("again", found, missing).replace("\r", ""))
        assert read(run, asked(now)).services == wanted.services, ran


def test_the_script_does_the_same_and_again_nothing_and_takes_it_back(keelson: Host, tmp_path: Path) -> None:
    run, before = runner(keelson), shell(keelson, SNAPSHOT)
    for seed in (5, 6, 7):
        wanted = compiled(resolve(office(seed), ON), TOP).system
        now = read(run, asked(wanted))
        found = steps(now, wanted)
        path = tmp_path / "rollout.sh"
        path.write_text(script(office(seed).name, now, found))
        assert subprocess.run(["shellcheck", path], capture_output=True, text=True).stdout == ""
        shown = shell(keelson, f"sh {path} --dry-run")
        assert f"{len(found)} of {len(found)}: {words(found[-1])}" in shown
        assert shell(keelson, SNAPSHOT) == before
        shell(keelson, f"sh {path} && sh {path}")
        after = read(run, asked(wanted))
        assert steps(after, wanted) == ()
        stands = shell(keelson, SNAPSHOT)
        shell(
            keelson, f"chmod 700 {shlex.quote(next(iter(wanted.folders)))}; setfacl --restore=-", restore_text(wanted)
        )
        assert shell(keelson, SNAPSHOT) == stands, "what is taken away for setfacl is the same"
        shell(keelson, f"sh {path} --undo && sh {path} --undo")
        assert shell(keelson, SNAPSHOT) == before


def test_a_script_made_without_the_host_s_state_takes_away_nothing_that_it_did_not_make(tmp_path: Path) -> None:
    """Another host is refused, shares of another plan stop it, and undoing it leaves the group and the folder that were there before."""
    with host() as at:
        wanted, path = compiled(resolve(office(5), ON), TOP).system, tmp_path / "rollout.sh"
        found = steps(System(), wanted)

        def runs(text: str, *options: str) -> str:
            path.write_text(text)
            return shell(at, f'sh {path} {" ".join(options)} 2>&1; echo "ended with $?"')

        group, folder = next(iter(wanted.groups.values())), min(wanted.folders)
        shell(at, f"groupadd --gid {group.gid} {group.name}; mkdir -m 755 -p {shlex.quote(folder)}")
        mine = shell(at, "uname -n").strip()
        before = shell(at, SNAPSHOT)
        assert "made for another host, named somewhere" in runs(script("x", System(), found, host="somewhere"))
        shell(at, "printf '[theirs]\n path = /srv\n' > /etc/samba/yardgate.conf")
        said = runs(script("x", System(), found, host=mine))
        assert "/etc/samba/yardgate.conf also has the share theirs" in said
        assert "ended with 2" in said
        shell(at, "rm /etc/samba/yardgate.conf")
        assert shell(at, SNAPSHOT) == before, "nothing was done by then"
        assert "ended with 0" in runs(script("x", System(), found, host=mine), "--undo")
        assert shell(at, SNAPSHOT) == before, "what it did not do is not undone"
        text = script("x", System(), found, host=mine)
        assert "ended with 0" in runs(text)
        assert steps(read(runner(at), asked(wanted)), wanted) == ()
        assert "ended with 0" in runs(text)
        assert "ended with 0" in runs(text, "--undo")
        left = shell(at, f"getent group {group.name}; ls -d /srv/*; getent passwd {next(iter(wanted.accounts))}")
        assert group.name in left, "a group that was there before stays"
        assert folder in left
        assert "x:" not in left.replace(f"{group.name}:x:", ""), "an account that it made goes"


def test_the_runbook_typed_as_it_stands_does_the_same_and_takes_it_back(keelson: Host) -> None:
    run, now, back = runner(keelson), System(), []
    for seed in (5, 8, 9):  # each by its difference to the one before
        wanted = compiled(resolve(office(seed), ON), TOP).system
        now = read(run, asked(now, wanted))
        head, *said = runbook("by hand", now, steps(now, wanted), ()).split("\n## ")
        assert "    " not in head
        helping = block(said.pop(0)) if said[0].startswith("Before") else ""
        doing = [one.split("To undo it: ") for one in said if not one.startswith("Afterwards")]
        back.append((shell(keelson, SNAPSHOT), helping + "".join(block(one) for _, one in reversed(doing))))
        typed = helping + "".join(block(one) for one, _ in doing)
        assert "failed" not in shell(keelson, "sh -eu 2>&1 || echo failed", typed)
        now = read(run, asked(now, wanted))
        assert steps(now, wanted) == ()
    for before, typed in reversed(back):
        shell(keelson, "sh -u", typed)
        assert shell(keelson, SNAPSHOT) == before


def block(said: str) -> str:
    return "".join(f"{line[4:]}\n" for line in said.split("\n") if line.startswith("    "))


@pytest.fixture
def plan_file(tmp_path: Path) -> Path:
    path = tmp_path / "plan.json"
    path.write_text(planfile.write(office(9)))
    return path


def command(*words: object) -> str:
    return shlex.join([sys.executable, "-m", "yardgate.cli", "rollout", *map(str, words), "--on", ON.isoformat()])


def test_apply_keeps_what_is_kept_and_reads_the_same(keelson: Host, plan_file: Path, tmp_path: Path) -> None:
    before = shell(keelson, SNAPSHOT)
    shell(keelson, f"{command('read', plan_file)} > {tmp_path}/before.json")
    shell(
        keelson,
        command("write", "script", plan_file, "--now", f"{tmp_path}/before.json", "--out", f"{tmp_path}/rollout.sh"),
    )
    assert "nothing was done" in shell(keelson, command("apply", plan_file, "--dry-run"))
    assert shell(keelson, SNAPSHOT) == before
    assert "Confirmed." in shell(keelson, command("apply", plan_file), given="confirm\n")
    shell(keelson, f"{command('read', plan_file)} > {tmp_path}/now.json")
    said = shell(keelson, command("steps", plan_file, "--now", f"{tmp_path}/now.json"))
    assert "Nothing has to be done" in said
    assert shell(keelson, "ls -A /var/lib/yardgate | grep -c armed || true").strip() == "0"
    now = f"{sys.executable} -m yardgate.cli rollout drift {tmp_path}/now.json"
    assert "Everything is as it was left." in shell(keelson, now)
    group = shell(keelson, "grep ':u[0-9]' /etc/group | cut -d: -f1 | head -1").strip()
    members = shell(keelson, f"getent group {group} | cut -d: -f4").strip()
    shell(keelson, f"gpasswd --members '' {group}; setfacl -m other::rwx '/srv/place 0'")
    code, said, _ = keelson.ask("run", argv=["sh", "-c", now], given="")
    assert (code, f"members of {group}: take out" in said) == (3, True)
    assert "folder /srv/place 0: list (everybody else" in said, said
    shell(keelson, f"gpasswd --members {members} {group}; sh {tmp_path}/rollout.sh > /dev/null")
    assert "Everything is as it was left." in shell(keelson, now)
    stands = shell(keelson, SNAPSHOT)
    group = min(name for name in re.findall(r"^(g\d+):", stands, re.MULTILINE))
    shell(keelson, f"sh {tmp_path}/rollout.sh --undo")
    assert f"\n{group}:x:" in shell(keelson, SNAPSHOT), "what it did not make stays; `apply` made it"
    plan = planfile.read(plan_file.read_text())
    first = TypeAdapter(System).validate_json((tmp_path / "before.json").read_text(), strict=False)
    found = steps(first, compiled(resolve(plan, ON), TOP).system)
    (tmp_path / "back.sh").write_text(script("back", first, found, remembers=False))
    shell(keelson, f"sh {tmp_path}/back.sh --undo")
    assert shell(keelson, SNAPSHOT) == before


def test_what_nobody_keeps_is_put_back(keelson: Host, plan_file: Path) -> None:
    before = shell(keelson, SNAPSHOT)
    code, said, _ = keelson.ask("run", argv=["sh", "-c", command("apply", plan_file)], given="no\n")
    assert (code, "Everything was rolled back." in said) == (4, True)
    assert shell(keelson, SNAPSHOT) == before


def test_the_host_puts_back_by_itself_when_the_one_who_began_is_killed(keelson: Host, plan_file: Path) -> None:
    before, put = shell(keelson, SNAPSHOT), 0
    for pause in [random.Random(2).uniform(0.5, 4) for _ in range(times(3, 100))]:
        waiting = command("apply", plan_file, "--confirm-within", "10")
        process = shell(keelson, f"(sleep 30 2> /dev/null | {waiting} > /dev/null 2>&1 & echo $!)").strip()
        shell(keelson, f"sleep {pause}; kill -9 {process}")
        ended = shell(
            keelson,
            "cd /var/lib/yardgate; for i in $(seq 150); do ls | grep -qE 'armed|undoing' || break; sleep 0.2; done; ls; cat ended; rm -f ended",
        )
        assert "armed" not in ended
        assert "undoing" not in ended
        assert "not all" not in ended
        put += "rolled back" in ended
        assert shell(keelson, SNAPSHOT) == before, pause
    assert put > 0, "at least once it was under way"


def test_a_host_that_starts_again_in_the_midst_of_it_puts_back_at_once(keelson: Host) -> None:
    """The watch does not outlive the host; what cron(8) runs at its start does the same."""
    watch = Watch(runner(keelson))
    shell(keelson, "mkdir -p /etc/cron.d")
    watch.arm("#!/bin/sh\ntouch /srv/was-undone\n", 600)
    assert watch.watching() == "armed"
    shell(keelson, "touch -d '2001-01-01' /var/lib/yardgate/armed; sleep 2")
    assert watch.watching() == "armed", "the time of day makes no difference"
    with pytest.raises(RolloutUnderWay):
        watch.arm("", 600)
    shell(keelson, "kill $(pgrep -f '[w]atch.sh')")
    shell(
        keelson,
        "sed 's/^@reboot root //' /etc/cron.d/yardgate-put-back > /tmp/at-start; sh /tmp/at-start; rm /tmp/at-start",
    )
    assert watch.watching() == "rolled back"
    assert (
        shell(keelson, "rm /srv/was-undone && ls /etc/cron.d/yardgate-put-back 2>&1 || true").count("No such file") == 1
    )
    for late in (watch.alive, watch.end):
        with pytest.raises(TooLate):
            late()
    watch.arm("exit 1", 600)
    watch.alive()
    watch.end()
    assert watch.watching() == "nothing"


@pytest.mark.parametrize("part", range(times(1, 10)))
def test_names_of_every_kind_are_refused_or_stand_on_a_real_host_as_they_are(part: int) -> None:
    """By the script, which a real shell reads; every fifth plan step by step."""
    rng, counts = random.Random(23 + part), Counter[str]()
    with host() as at:
        before, run = shell(at, SNAPSHOT), runner(at)
        while counts["names"] < times(100, 1000):
            plan = sound(hostile(rng))
            counts["names"] += len(plan.users) + len(plan.groups) + len(plan.places) + len(plan.shares)
            try:
                wanted = compiled(resolve(plan, ON), TOP).system
            except PlanError:
                counts["refused"] += 1
                continue
            counts["carried"] += 1
            now = read(run, asked(wanted))
            if counts["carried"] % 5 == 1:
                there, carried = roll(at, now, wanted)
            else:
                shell(at, "cat > /etc/rollout.sh; sh /etc/rollout.sh", script(plan.name, now, steps(now, wanted)))
                there = read(run, asked(wanted))
                assert steps(there, wanted) == ()
            assert set(shell(at, "find /srv -print0").split("\0")[:-1]) == {TOP, *wanted.folders}
            assert taken(shell(at, "testparm -s 2>/dev/null")) == {fold(o.name): o.path for o in wanted.offers.values()}
            listed = shell(at, "exportfs -s")
            assert listed.count("\n") == sum(len(export.rules) for export in wanted.exports.values())
            if counts["carried"] % 5 == 1:
                assert put_back(LinuxHost(run), there, carried).failed is None
            else:
                shell(at, "sh /etc/rollout.sh --undo; rm /etc/rollout.sh")
            assert shell(at, SNAPSHOT) == before
    print(dict(counts))
    assert counts["carried"] > 0
    assert counts["refused"] > 0
