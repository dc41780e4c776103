"""A real Active-Directory-compatible domain: its own answer to who counts as what is held against ours, change after change."""

import json
import random
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import date
from typing import Any

import pytest

from tests.conftest import ON
from tests.real.domain import ADMIN, ADMIN_PASSWORD, BASE, PASSWORD, Machine, controller, member
from tests.real.domain_changes import Changer, populate
from tests.real.offices import AS_BEFORE, DOMAIN, KEPT, PLAIN, PRACTICE
from tests.real.test_host import SNAPSHOT, TOP, office, roll, runner, shell, visit
from tests.real.test_offices import entered, left_to_do, one_more, set_up, taken_in
from tests.tries import times
from yardgate.core.access.batch.resolve import Matrix, resolve
from yardgate.core.access.membership import token
from yardgate.core.access.outcome import outcome, shifts
from yardgate.core.acl import Ordered, Posix
from yardgate.core.acl.rights import Level
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.host.bounds import Bounds, Managed, refused
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System, asked
from yardgate.core.host.steps import steps
from yardgate.core.model.directory import Copy, Directory, rid_of
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import GUEST, LOCAL, Group, Place, Plan, User
from yardgate.drivers.directory import ldap
from yardgate.drivers.directory.ldap import DirectoryReader, Progress, certificate, connect, read_all, read_changes
from yardgate.drivers.directory.progress import DirectoryError
from yardgate.drivers.linux.apply import put_back
from yardgate.drivers.linux.host import LinuxHost
from yardgate.drivers.linux.reading import about
from yardgate.drivers.linux.reading import read as read_host
from yardgate.formats.list_text import write_restore
from yardgate.formats.sid import sid_text

CHANGES = 50


@pytest.fixture(scope="module")
def domain() -> Iterator[tuple[Machine, Directory]]:
    with controller() as machine:
        machine.do(*populate(random.Random(7)))
        machine.do(["start"])
        joined = Directory(
            id="lanternquay",
            name="LANTERNQUAY",
            domain="lanternquay.example",
            controller="10.99.0.1",
            reader=ADMIN,
            base=BASE,
        )
        shown = machine.within(lambda: certificate(joined))
        assert shown is not None
        assert shown.distrust == "comes from an authority that this system does not trust"
        yield machine, replace(joined, fingerprint=shown.fingerprint)


def told_by_controller(reader: DirectoryReader, copy: Copy) -> Mapping[str, set[str]]:
    """SID of each user -> SIDs of all groups that the controller counts it in (MS-ADTS 3.1.1.4.5.19, tokenGroups)."""
    found = {}
    for record in copy.records.values():
        if record.kind != "group":
            entry = reader.one(record.dn, ["tokenGroups"])
            assert entry is not None
            found[record.key] = {text for raw in entry.attributes["tokengroups"] if (text := sid_text(raw)) is not None}
    return found


def counted_by_us(plan: Plan) -> Mapping[str, set[str]]:
    return {
        user.key: {plan.groups[who].sid or "" for who in token(plan, user.id) if who in plan.groups}
        for user in plan.users.values()
        if user.key is not None and not user.gone
    }


def in_step(plan: Plan, directory: Directory, copy: Copy) -> Plan:
    found = sync(plan, directory, copy.records.values())
    assert not found.left_out
    after, _ = apply(plan, found.edits)
    assert not sync(after, directory, copy.records.values()).edits
    return after


def test_everybody_counts_as_the_controller_says_after_every_change(domain: tuple[Machine, Directory]) -> None:
    machine, directory = domain
    rng = random.Random(4)
    changer = Changer(rng)

    def work() -> tuple[int, int]:
        users = groups = 0
        with connect(directory, ADMIN_PASSWORD) as reader:
            copy = read_all(reader, Progress())
            plan = in_step(Plan(), directory, copy)
            assert counted_by_us(plan) == told_by_controller(reader, copy)
            for number in range(CHANGES):
                tasks = changer.tasks()
                machine.do(*tasks)
                changed, whole = read_changes(reader, copy, Progress()), read_all(reader, Progress())
                assert not changed.full
                assert changed.records == whole.records, (number, tasks)
                assert in_step(plan, directory, changed) == in_step(plan, directory, whole)
                plan, copy = in_step(plan, directory, changed), changed
                assert counted_by_us(plan) == told_by_controller(reader, copy), (number, tasks)
                users, groups = len(counted_by_us(plan)), len(plan.groups)
        return users, groups

    users, groups = machine.within(work)
    print(f"{CHANGES} changes, {users} users, {groups} groups at the end, every token as the controller's")
    assert users >= 60


def read(directory: Directory) -> Copy:
    with connect(directory, ADMIN_PASSWORD) as reader:
        return read_all(reader, Progress())


class Stopping(Progress):
    """Stops the controller when so many entries have come."""

    def __init__(self, machine: Machine, when: int) -> None:
        super().__init__()
        self.machine, self.when, self.stopped = machine, when, False

    def at(self, phase: str, done: int) -> None:
        if not self.stopped and done >= self.when:
            self.stopped = True
            self.machine.do(["stop"])
        super().at(phase, done)


@pytest.mark.parametrize("phase", ["read_all", "read_changes"])
def test_a_controller_stopped_in_the_middle_is_said_and_trying_again_works(
    domain: tuple[Machine, Directory], monkeypatch: pytest.MonkeyPatch, phase: str
) -> None:
    machine, directory = domain
    monkeypatch.setattr(ldap, "PAGE", 20)

    def work() -> None:
        before = read(directory)
        stopping = Stopping(machine, 40)
        with pytest.raises(DirectoryError) as stopped, connect(directory, ADMIN_PASSWORD) as reader:
            _ = read_all(reader, stopping) if phase == "read_all" else read_changes(reader, before, stopping)
        assert stopping.stopped
        assert stopped.value.step == "read"
        assert "10.99.0.1" in stopped.value.words
        with pytest.raises(DirectoryError) as away, connect(directory, ADMIN_PASSWORD):
            pass
        assert away.value.step in ("port", "tls")  # a connection may still be taken while it goes down
        print(f"{phase}: {stopped.value.words} Then: {away.value.words}")
        machine.do(["start"])
        assert read(directory).records == before.records

    machine.within(work)


def test_numbers_of_the_directory_are_the_controllers(domain: tuple[Machine, Directory]) -> None:
    controller_, settings = domain
    theirs = in_step(Plan(), replace(settings, numbering="directory"), controller_.within(lambda: read(settings)))

    def told() -> dict[str, int]:
        with connect(settings, ADMIN_PASSWORD) as reader:
            found = [
                entry for page in reader.pages(BASE, "(uidNumber=*)", ["sAMAccountName", "uidNumber"]) for entry in page
            ]
        return {e.attributes["samaccountname"][0].decode(): int(e.attributes["uidnumber"][0]) for e in found}

    given = controller_.within(told)
    assert len(given) >= 8
    assert {user.name: user.uid for user in theirs.users.values() if user.uid is not None} == given


@pytest.fixture(scope="module")
def server(domain: tuple[Machine, Directory]) -> Iterator[Machine]:
    with member(domain[0]) as found:
        yield found


def numbered(domain: tuple[Machine, Directory]) -> Plan:
    """A plan that has the directory's accounts, with the numbers that the member server gives them."""
    controller_, settings = domain
    directory = replace(settings, low=100_000, high=199_999)
    return in_step(Plan(), directory, controller_.within(lambda: read(settings)))


def test_numbers_are_winbinds_and_real_users_get_in_as_the_board_says(
    domain: tuple[Machine, Directory], server: Machine
) -> None:
    plan = numbered(domain)
    accounts = [a for a in (*plan.users.values(), *plan.groups.values()) if rid_of(a.sid or "") is not None]
    ours = [a.uid if isinstance(a, User) else a.gid for a in accounts]
    assert server.ask("numbers", [a.sid for a in accounts]) == ours
    print(f"{len(accounts)} accounts, every number as winbind says")
    compare_shares(plan, server)


def compare_shares(plan: Plan, server: Machine) -> None:
    """Grants to domain groups and people on eight places, compiled, laid on real folders, and tried over SMB."""
    rng = random.Random(11)
    local = User(id="own-u01", name="u01", uid=5001, primary_group="own-g")
    people = [
        u
        for u in plan.users.values()
        if u.enabled and u.expires is None and u.name not in ("Administrator", "Guest", "krbtgt")
    ]
    twin = next(user for user in people if user.name == "u01")
    chosen = [twin, *rng.sample([user for user in people if user is not twin], 21)]
    reach = Counter(who for user in chosen for who in token(plan, user.id))
    own = [g for g in plan.groups.values() if rid_of(g.sid or "") is not None and g.gid is not None and g.gid > 101_000]
    groups = sorted(own, key=lambda group: -reach[group.id])[:24]  # such as many of them count as
    places = {"quay": Place(id="quay", name="quay", kind="pool", acl=Posix(), enforced_by="storage")}
    for number in range(7):
        parent = rng.choice(list(places)) if number else "quay"
        places[f"f{number}"] = Place(id=f"f{number}", name=f"f{number}", kind="folder", parent=parent)
    grants: dict[str, dict[str, Level]] = {}
    for place in places:
        whos = [*rng.sample([g.id for g in groups], 5), *rng.sample([u.id for u in chosen], 2)]
        grants[place] = {who: rng.choice([Level.RW] * 4 + [Level.RO] * 7 + [Level.NA]) for who in whos}
    grants["f0"][local.id] = Level.RW
    grants["f0"][twin.id] = Level.NA
    office = replace(
        plan,
        users={**plan.users, local.id: local},
        groups={**plan.groups, "own-g": Group(id="own-g", name="u01", gid=5001)},
        places=places,
        grants=grants,
    )
    assert check(office) == ()
    found = resolve(office, date.today())
    folders = {place: "/".join(office.places[step].name for step in office.path(place)) for place in places}
    server.ask("lay_out", list(folders.values()), write_restore(office, "quay"))
    wrong, cells = [], 0
    for user in (*chosen, local):
        name = f"NAS1\\{user.name}" if user is local else office.called(user.id)
        for place, (lists, reads, puts) in zip(places, server.ask("tried", name, list(folders.values())), strict=True):
            level = found.level(user.id, place)
            cells += 1
            wanted = {Level.RW: (True, True, True), Level.RO: (True, True, False)}.get(level, (False, False, False))
            if (lists, reads, puts) != wanted:
                wrong.append((name, place, level, (lists, reads, puts)))
    levels = Counter(found.level(user.id, place) for user in (*chosen, local) for place in places)
    print(
        f"{len(chosen)} domain users and a local one of the same name × {len(places)} places over SMB: {dict(levels)}"
    )
    assert wrong == []
    assert found.level(local.id, "f0") != found.level(twin.id, "f0")
    assert len(levels) >= 3
    assert cells >= 160


class Joined:
    """The member server as a host to roll out on."""

    def __init__(self, server: Machine):
        self.server = server

    def ask(self, what: str, **more: Any) -> Any:
        if what == "run":
            return self.server.ask("ran", more["argv"], more["given"])
        code, said, trouble = self.server.ask(
            "ran", ["/usr/bin/python3", "-I", more["script"]], json.dumps(more["task"])
        )
        assert code == 0, trouble[-2000:]
        return json.loads(said)


def half_joined(seed: int, machine: Machine, domain: tuple[Machine, Directory]) -> Plan:
    """An office of whose people and groups about half come from the directory, which gets them first."""
    plan, rng = office(seed), random.Random(f"joined-{seed}")
    users = {u.id: f"U-{seed}.{u.id}" for u in plan.users.values() if u.uid != 0 and rng.random() < 0.5}
    groups = {g.id: f"Crew {seed} {g.id}" for g in plan.groups.values() if g.gid != 0 and rng.random() < 0.5}
    theirs = {**users, **groups}
    tasks: list[list[Any]] = [["user", name, f"Person {name}"] for name in users.values()]
    tasks += [["group", name] for name in groups.values()]
    for group, name in groups.items():
        tasks += [["join", name, theirs[m]] for m in sorted(plan.groups[group].members) if m in theirs and m != group]
    tasks += [["disable", users[u]] for u in users if not plan.users[u].enabled]
    machine.do(*tasks)
    read_ = numbered(domain)
    by_name = {a.name: a for a in (*read_.users.values(), *read_.groups.values())}
    ids = {by_name[name].id: who for who, name in theirs.items()}
    everybody = by_name["Domain Users"]
    assert isinstance(everybody, Group)

    def user(mine: User) -> User:
        if mine.id not in users:
            return replace(mine, primary_group="hands")
        found = by_name[users[mine.id]]
        assert isinstance(found, User)
        return replace(found, id=mine.id, primary_group=everybody.id)

    def group(mine: Group) -> Group:
        if mine.id not in groups:
            return mine
        found = by_name[groups[mine.id]]
        assert isinstance(found, Group)
        return replace(found, id=mine.id, members=frozenset(ids[m] for m in found.members if m in ids))

    made = replace(
        plan,
        directories=read_.directories,
        users={u.id: user(u) for u in plan.users.values()},
        groups={
            **{g.id: group(g) for g in plan.groups.values()},
            everybody.id: replace(everybody, members=frozenset()),
            "hands": Group(id="hands", name="hands", gid=22_000),
        },
    )
    assert check(made) == ()
    return made


def joining(matrix: Matrix, meant: System) -> tuple[str, str, Matrix] | None:
    """Somebody of the directory who would get something else in one of its groups, what comes of it, and no step: the domain says who is in it."""
    plan, before = matrix.plan, outcome(matrix)
    groups = [group for group in plan.groups.values() if group.origin != LOCAL and group.name.startswith("Crew ")]
    for group in groups:
        for user in plan.users.values():
            if user.origin == LOCAL or not user.active(ON) or group.id in token(plan, user.id):
                continue
            more = replace(group, members=group.members | {user.id})
            then = resolve(replace(plan, groups={**plan.groups, group.id: more}), ON)
            if shifts(before, outcome(then)) and not steps(meant, compiled(then, TOP, tuple(plan.directories)).system):
                return user.id, group.id, then
    return None


def sign_in(plan: Plan, who: str) -> dict[str, str]:
    user = plan.users.get(who)
    if user is None or user.origin == LOCAL:
        return {"name": "" if who == GUEST else user.name if user is not None else who, "domain": "NAS1"}
    return {"name": user.name, "domain": plan.source(user.origin), "password": PASSWORD}


def test_plans_are_rolled_out_on_a_host_that_is_joined(domain: tuple[Machine, Directory], server: Machine) -> None:
    """Half of the people and groups are the directory's: lists, shares and the host's own groups name them, and they get in as planned."""
    machine, _ = domain
    at, counts, wrong = Joined(server), Counter[str](), []
    run, now = runner(at), System()
    past = []
    for seed in range(times(4, 100)):
        plan = half_joined(seed, machine, domain)
        matrix = resolve(plan, ON)
        meant = compiled(matrix, TOP, tuple(plan.directories))
        counts["named"] += sum(
            "\\" in name for one in meant.system.offers.values() for name in (*one.reads, *one.writes)
        )
        counts["in own groups"] += sum("\\" in name for one in meant.system.members.values() for name in one.users)
        now = read_host(run, asked(now, meant.system))
        before = shell(at, f"find /srv -type f -delete; {SNAPSHOT}")
        after, carried = roll(at, now, meant.system)
        past.append((before, now, carried))
        wrong += visit(at, matrix, counts, sign_in=sign_in)
        made = [thing for top in after.folders for _, some in LinuxHost(run).inside(top, ()) for thing in some]
        new = [thing for thing in made if "/new-" in thing.name and isinstance(thing.listed, Ordered)]
        counts["made by the directory's people"] += sum(thing.owner.startswith("LANTERNQUAY\\u-") for thing in new)
        assert [thing for thing in made if "S-1-5-21-" in f"{thing.owner} {thing.group} {thing.listed}"] == []
        now = after
        if (joined := joining(matrix, meant.system)) is not None:
            who, group, then = joined
            machine.do(["join", plan.groups[group].name, plan.users[who].name])
            shell(at, "find /srv -type f -delete")
            wrong += visit(at, then, counts, sign_in=sign_in)
            counts["joined a group of the domain"] += 1
    print(dict(counts), f"{len(wrong)} differ")
    for one in wrong[:20]:
        print(one)
    shell(at, "find /srv -type f -delete")
    for before, start, carried in reversed(past):
        assert put_back(LinuxHost(run), now, carried).failed is None
        now = read_host(run, asked(now, start))
        assert shell(at, SNAPSHOT) == before
    assert wrong == []
    assert counts["named"] > 0
    assert counts["in own groups"] > 0
    assert counts["joined a group of the domain"] > 0
    assert counts["made by the directory's people"] > 0


def test_an_office_in_a_domain_is_entered_as_the_plan_of_it_says(
    domain: tuple[Machine, Directory], server: Machine
) -> None:
    """By names with the domain, and then by plain ones, as the server may be told to call its accounts."""
    machine, _ = domain
    at = Joined(server)
    machine.do(*DOMAIN)
    shell(at, KEPT)
    try:
        set_up(at, PRACTICE)
        before = practice(domain)
        plan, reading = taken_in(at, PRACTICE, before)
        entered(at, plan, reading, sign_in)
        assert left_to_do(at, plan) == ()
        one_more(at, plan)
        shell(at, PLAIN)
        plan, reading = taken_in(at, PRACTICE, before)
        entered(at, plan, reading, sign_in)
        left, host = left_to_do(at, plan), about(runner(at))  # which would name somebody as the host does not
        no = refused(left, Bounds(top="/srv", managed=frozenset(Managed("groups", one) for one in host.groups)), host)
        assert left
        assert all("winbind use default domain" in no[step.id] for step in left)
    finally:
        shell(at, AS_BEFORE)


def practice(domain: tuple[Machine, Directory]) -> Plan:
    """A plan to which the domain is joined, with the people and groups of the office."""
    theirs = {task[1] for task in DOMAIN if task[0] in ("user", "group")}
    theirs |= {"Domain Users", "Domain Admins", "u02", "u03"}
    whole = numbered(domain)
    kept = {one.id for one in (*whole.users.values(), *whole.groups.values()) if one.name in theirs}
    found = replace(
        whole,
        name=PRACTICE.name,
        users={who: user for who, user in whole.users.items() if who in kept},
        groups={who: replace(one, members=one.members & kept) for who, one in whole.groups.items() if who in kept},
    )
    assert check(found) == ()
    return found
