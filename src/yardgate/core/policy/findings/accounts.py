"""Findings about people, services and groups."""

from collections.abc import Iterable
from dataclasses import replace

from yardgate.core.access.membership import cycles
from yardgate.core.access.spec.explain import explain
from yardgate.core.acl.rights import Level
from yardgate.core.edits.list_edits import without_lines
from yardgate.core.edits.records import Edit, PutUser, RemoveGroup, SetGrant
from yardgate.core.model.mentions import mentioned
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import EVERYONE, LOCAL, Plan, User
from yardgate.core.policy.findings.case import Case, CellKey, Check, Finding, Findings


def shut_and_granted(case: Case) -> Findings:
    """An account is disabled, expired, or gone from its directory, and grants or lists still name it.

    It gets nothing now, and all of it again on the day when the account is opened. Take what names it away."""
    for user in case.plan.users.values():
        if user.active(case.on):
            continue
        places = [place for place, said in case.plan.grants.items() if user.id in said]
        lists = [p.id for p in case.plan.places.values() if p.acl is not None and user.id in p.acl.whos]
        if places or lists:
            fix: list[Edit] = [SetGrant(place, user.id, None) for place in places]
            fix += [edit for place in lists for edit in without_lines(case.plan, place, user.id)]
            state = f"expired since {user.expires}" if user.enabled else "disabled"
            state = "gone from its directory" if user.gone else state
            where = _paths(case, dict.fromkeys((*places, *lists)))
            said = f"{case.plan.named(user.id)} is {state}, and still named on {where}."
            yield Finding(
                "shut-and-granted",
                "consider",
                (user.id,),
                said,
                (),
                tuple(fix),
                "Remove what names the account.",
            )


def _paths(case: Case, places: Iterable[str]) -> str:
    listed = [case.path(place) for place in places]
    if len(listed) > 2:
        listed = [", ".join(listed[:2]), f"{len(listed) - 2} more"]
    return " and ".join(listed)


def person_runs_job(case: Case) -> Findings:
    """A job signs in with a person's account: when they change their password or leave, it stops.

    Make a service account for the job, grant it what the job needs, and have the job sign in as that."""
    for user in case.plan.users.values():
        if user.kind == "person" and user.jobs:
            said = f"{' and '.join(user.jobs)} {'sign' if len(user.jobs) > 1 else 'signs'} in as {case.plan.named(user.id)}."
            yield Finding("person-runs-job", "serious", (user.id,), said)


def shared_service(case: Case) -> Findings:
    """Several jobs share one service account, or a service has the number or the name of a person.

    What one of them needs, all of them get; and nobody can tell from a file which of them made it. Give each its own account."""
    by_uid: dict[int, list[User]] = {}
    for user in case.plan.users.values():
        if user.uid is not None:
            by_uid.setdefault(user.uid, []).append(user)
    for user in case.plan.users.values():
        if user.kind != "service":
            continue
        others = [o for o in by_uid.get(user.uid, ()) if o.kind == "person"] if user.uid is not None else []
        if len(user.jobs) > 1:
            said = f"{' and '.join(user.jobs)} all sign in as {user.name}."
        elif others:
            said = f"{user.name} has the uid {user.uid} of {case.names(other.id for other in others)}: to storage they are one."
        else:
            continue
        yield Finding("shared-service", "consider", (user.id,), said)


def service_too_much(case: Case) -> Findings:
    """A service gets into a place only because of a grant that is meant for people: everyone's, the baseline's, or that of a group with people in it.

    A backup or a scanner should get what its job needs. Grant it that by itself, and refuse it the rest."""
    people = {
        who
        for who in case.plan.groups
        if any(_is_person(case.plan, member) for member in case.plan.groups[who].members)
    }
    people |= {EVERYONE, *([case.plan.target.baseline] if case.plan.target.baseline is not None else [])}
    meant = {place: said.keys() & people for place, said in case.plan.grants.items()}
    for user in case.plan.users.values():
        if user.kind != "service" or not user.active(case.on):
            continue
        cells: list[CellKey] = []
        own: list[Level] = []  # what is granted to it otherwise
        for place, whos in meant.items():
            if not whos or case.level(user.id, place) < Level.RO:
                continue
            lines = next(
                g for g in explain(case.plan, user.id, place, case.on, case.storage).gates if g.kind == "share"
            ).lines
            deciding = [line.who for line in lines if line.verdict == "decides"]
            if deciding and all(who in people for who in deciding):
                cells.append((user.id, place))
                own.append(max((line.level for line in lines if line.who not in people), default=Level.NA))
        if cells:
            within = case.plan.target.combining
            sayable = within == "narrowest" or (within == "refusal" and not any(own))
            fix = (
                tuple(SetGrant(place, who, level) for (who, place), level in zip(cells, own, strict=True))
                if sayable
                else ()
            )
            said = f"{user.name} gets into {_paths(case, [place for _, place in cells])} by what is granted to people."
            there = "there" if len(cells) == 1 else f"in those {len(cells)} places"
            does = (
                f"Give {user.name} {'only what is granted to it by itself' if any(own) else 'nothing'} {there}."
                if fix
                else ""
            )
            yield Finding("service-too-much", "consider", (user.id,), said, tuple(cells), fix, does)


def _is_person(plan: Plan, who: str) -> bool:
    return who in plan.users and plan.users[who].kind == "person"


def no_group(case: Case) -> Findings:
    """A person is in no group but the baseline: what they get hangs on personal grants, or on what all get.

    Put them into the group of those who do the same work."""
    for user in case.plan.users.values():
        if user.kind == "person" and user.active(case.on) and user.id not in case.plan.containers:
            yield Finding(
                "no-group",
                "note",
                (user.id,),
                f"{case.plan.named(user.id)} is in no group{' but the baseline' if case.plan.target.baseline else ''}.",
            )


def empty_group(case: Case) -> Findings:
    """A group has no members: what is granted to it is granted to nobody.

    Take the group away, or put into it whom it is for."""
    special = (case.plan.target.baseline, case.plan.target.administrators)
    used = {share.administrator for share in case.plan.shares.values()} | {p.group for p in case.plan.places.values()}
    for group in case.plan.groups.values():
        primary = (
            any(user.primary_group == group.id for user in case.plan.users.values()) if not group.members else True
        )
        if group.members or primary or group.id in special or group.gone:
            continue
        granted = [place for place, said in case.plan.grants.items() if group.id in said]
        named = group.id in used or any(group.id in mentioned(place) for place in case.plan.places.values())
        fix = (
            (RemoveGroup(group.id),)
            if group.origin == LOCAL and not named and not _promised(case.plan, group.id)
            else ()
        )
        where = f", and is granted {_paths(case, granted)}" if granted else ""
        fix = fix if fix and case.price(fix).nothing else ()
        does = "Remove the group, with what is granted to it." if fix else ""
        yield Finding(
            "empty-group", "note", (group.id,), f"{case.plan.named(group.id)} has no members{where}.", (), fix, does
        )


def _promised(plan: Plan, who: str) -> bool:
    return any(who == promise.who or who in promise.except_for for promise in plan.promises.values())


def group_circle(case: Case) -> Findings:
    """Groups contain each other in a circle: whoever is in one of them is in all.

    It does no harm by itself, and is hardly what anybody meant. Take one of them out of another."""
    for circle in cycles(case.plan):
        names = " in ".join(case.plan.named(group) for group in reversed(circle))
        yield Finding(
            "group-circle",
            "consider",
            tuple(sorted(circle)),
            f"{names}, and that again in {case.plan.named(circle[-1])}: a circle.",
        )


def name_means_two(case: Case) -> Findings:
    """One sign-in name means two accounts: one that the appliance has itself, and one of a directory.

    A client that sends the plain name gets one of them, and their grants differ. Rename the local one, or have people sign in
    with the directory's short name before theirs."""
    by_name: dict[str, list[User]] = {}
    for user in case.plan.users.values():
        for name in {fold(user.name), *map(fold, user.aliases)} if not user.gone else ():
            by_name.setdefault(name, []).append(user)
    seen: set[tuple[str, ...]] = set()
    for name, users in by_name.items():
        key = tuple(sorted(user.id for user in users))
        if len({user.origin for user in users}) > 1 and key not in seen:
            seen.add(key)
            said = f"“{name}” means {' and '.join(case.plan.called(user.id) for user in users)}."
            yield Finding("name-means-two", "consider", key, said)


def sign_in_name(case: Case) -> Findings:
    """Clients offer a name that the appliance does not know: the part before the @ of somebody's sign-in name is nobody's name.

    Many clients send only that part, or people type it. Let it count as a sign-in name of theirs, too."""
    known = {fold(name) for user in case.plan.users.values() for name in (user.name, *user.aliases)}
    wanted: dict[str, list[User]] = {}
    for user in case.plan.users.values():
        for alias in user.aliases if user.origin == LOCAL and user.active(case.on) else ():
            short, at, _ = alias.partition("@")
            if at and short and fold(short) not in known:
                wanted.setdefault(fold(short), []).append(user)
    alone = {name: users[0] for name, users in wanted.items() if len(users) == 1}
    if alone:
        whos = list(dict.fromkeys(user.id for user in alone.values()))
        more = {who: tuple(name for name, user in alone.items() if user.id == who) for who in whos}
        fix = tuple(
            PutUser(replace(case.plan.users[who], aliases=case.plan.users[who].aliases + more[who])) for who in whos
        )
        first = next(iter(alone))
        said = f"A client that sends only the part before the @ is refused: “{first}” is nobody's name, though {case.plan.named(whos[0])} signs in as {case.plan.users[whos[0]].aliases[0]}"
        said += f"; {len(whos) - 1} more people sign in like that." if len(whos) > 1 else "."
        yield Finding("sign-in-name", "note", (), said, (), fix, "Let the short name count as theirs, too.")


CHECKS = (
    Check("person-runs-job", "serious", "A job signs in as a person", person_runs_job),
    Check("shut-and-granted", "consider", "A disabled account is still granted", shut_and_granted),
    Check("shared-service", "consider", "A service account that is not one job's own", shared_service),
    Check("service-too-much", "consider", "A service gets what is meant for people", service_too_much),
    Check("group-circle", "consider", "Groups in a circle", group_circle),
    Check("name-means-two", "consider", "One name means two accounts", name_means_two),
    Check("no-group", "note", "A person without a group", no_group),
    Check("empty-group", "note", "A group without members", empty_group),
    Check("sign-in-name", "note", "A sign-in name that the appliance does not know", sign_in_name),
)
