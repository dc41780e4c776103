"""What is done of a plan, in the order in which people work, and what to do next."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Literal

from yardgate.core.model.behaviour import asked, open_questions
from yardgate.core.model.plan import LOCAL, Plan

StageId = Literal["appliance", "people", "groups", "places", "grants", "shares", "try", "rollout", "keep"]
StageAct = Literal[
    "answer", "add-person", "number", "add-group", "ungrouped", "add-pool", "lists", "grant", "unshared", "add-share", "off", "promises",
    "findings", "destination", "steps", "ending",
]  # fmt: skip
TITLES: dict[StageId, str] = {
    "appliance": "What the appliance does",
    "people": "People",
    "groups": "Groups",
    "places": "Places and their lists",
    "grants": "Who may do what",
    "shares": "Shares",
    "try": "See what comes out",
    "rollout": "Put it on the appliance",
    "keep": "Keep in step",
}
SOON = timedelta(days=30)  # an account that ends within these is told


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """What is known of a plan beyond its records: cells of people and guests who get more or less than granted; findings that are open and
    serious; promises that are broken; whether it is said to which appliance it goes. rolled: how many cells come out otherwise than what was put there last,
    None where it never was; moved: whether it was changed since."""

    more: int = 0
    less: int = 0
    serious: int = 0
    broken: int = 0
    reached: bool = False
    rolled: int | None = None
    moved: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ToDo:
    """Something to do: how many things it is about, in words, and which act leads there."""

    act: StageAct
    words: str
    count: int = 1
    ids: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """says: what there is. todo: what is missing, the most urgent first; nothing where the stage is done."""

    id: StageId
    title: str
    says: str
    todo: tuple[ToDo, ...] = ()
    begun: bool = True

    @property
    def done(self) -> bool:
        return self.begun and not self.todo


def stages(plan: Plan, stands: Known, on: date) -> tuple[Stage, ...]:
    """All stages of a plan, in order."""
    return (
        _appliance(plan),
        _people(plan),
        _groups(plan),
        _places(plan),
        _grants(plan),
        _shares(plan),
        _tried(plan, stands),
        _rolled_out(stands),
        _in_step(plan, stands, on),
    )


def _stage(stage: StageId, says: Iterable[str], *todo: ToDo | None, begun: bool = True) -> Stage:
    left = tuple(one for one in todo if one is not None)
    return Stage(id=stage, title=TITLES[stage], says=" · ".join(filter(None, says)), todo=left, begun=begun)


def _about(act: StageAct, words: str, ids: Collection[str]) -> ToDo | None:
    """What is to be done about some, if there are any."""
    return ToDo(act=act, words=words, count=len(ids), ids=tuple(sorted(ids))) if ids else None


def _count(number: int, one: str, many: str = "") -> str:
    """So many, in words; nothing for none."""
    return f"{number:,} {one if number == 1 else many or f'{one}s'}" if number else ""


def _appliance(plan: Plan) -> Stage:
    questions, left = asked(plan), open_questions(plan)
    if not left:
        return _stage("appliance", ["All questions about it are answered"])
    says = f"{len(questions) - len(left)} of {len(questions)} questions answered"
    return _stage("appliance", [says, "what is open is assumed"], ToDo(act="answer", words="Answer", count=len(left)))


def _people(plan: Plan) -> Stage:
    if not plan.users:
        return _stage("people", ["Nobody yet"], ToDo(act="add-person", words="Add people"), begun=False)
    services = sum(user.kind == "service" for user in plan.users.values())
    by_nfs = any(share.nfs for share in plan.shares.values())
    bare = [user.id for user in plan.users.values() if by_nfs and user.uid is None and user.origin == LOCAL]
    there = ", ".join(
        filter(None, (_count(len(plan.users) - services, "person", "people"), _count(services, "service")))
    )
    without = f"{len(bare):,} without a uid, which NFS needs" if bare else ""
    return _stage("people", [there, without], _about("number", "Number them", bare))


def _groups(plan: Plan) -> Stage:
    if not plan.groups:
        says = "None yet: what a group is granted, whoever joins it has"
        return _stage("groups", [says], ToDo(act="add-group", words="Add a group"), begun=False)
    people = [user for user in plan.users.values() if user.kind == "person" and not user.gone]
    loose = [user.id for user in people if user.id not in plan.containers]
    without = _count(len(loose), "person is in none", "people are in none")
    return _stage("groups", [_count(len(plan.groups), "group"), without], _about("ungrouped", "See who", loose))


def _places(plan: Plan) -> Stage:
    pools = sum(place.kind == "pool" for place in plan.places.values())
    if pools == len(plan.places):
        says = f"{_count(pools, 'pool')} with nothing in it" if pools else "None yet: a pool, with the folders in it"
        return _stage("places", [says], ToDo(act="add-pool", words="Add places"), begun=False)
    styled = {place.id for place in plan.places.values() if place.acl is not None}
    bare = [one for one in plan.grants if not styled.intersection(plan.path(one))]
    there = f"{_count(pools, 'pool')}, {_count(len(plan.places) - pools, 'place')} in {'it' if pools == 1 else 'them'}"
    without = _count(len(bare), "granted place has no list planned", "granted places have no list planned")
    return _stage("places", [there, without], _about("lists", "Plan lists", bare))


def _grants(plan: Plan) -> Stage:
    lines = [who for place in plan.grants.values() for who in place]
    if not lines:
        return _stage("grants", ["Nothing is granted yet"], ToDo(act="grant", words="Grant"), begun=False)
    leaves = [place for place in plan.places if place not in plan.inside]
    silent = [place for place in leaves if plan.grants.keys().isdisjoint(plan.path(place))]
    personal = sum(who in plan.users and plan.users[who].kind == "person" for who in lines)
    there = ", ".join(filter(None, (_count(len(lines), "grant"), f"{personal:,} to single people" if personal else "")))
    without = _count(len(silent), "place of which nothing is said", "places of which nothing is said")
    return _stage("grants", [there, without], _about("grant", "Grant", silent))


def _shares(plan: Plan) -> Stage:
    offered = {share.place for share in plan.shares.values() if share.smb or share.nfs}
    granted = {one for one in plan.grants if offered.isdisjoint(plan.path(one))}
    tops = [one for one in granted if granted.isdisjoint(plan.path(one)[:-1])]
    share_them = _about("unshared", "Share it" if len(tops) == 1 else "Share them", tops)
    if not plan.shares:
        says = "Nothing is shared yet, so nobody gets anywhere"
        return _stage("shares", [says], share_them or ToDo(act="add-share", words="Add a share"), begun=False)
    over = [
        word
        for word, on in (
            ("SMB", any(s.smb for s in plan.shares.values())),
            ("NFS", any(s.nfs for s in plan.shares.values())),
        )
        if on
    ]
    there = f"{_count(len(plan.shares), 'share')} over {' and '.join(over) or 'nothing'}"
    without = (
        f"{plan.path_name(tops[0])} is granted and not shared"
        if len(tops) == 1
        else _count(len(tops), "", "granted places are not shared")
    )
    return _stage("shares", [there, without], share_them)


def _tried(plan: Plan, stands: Known) -> Stage:
    if not plan.grants or not plan.shares:
        return _stage("try", ["Once something is granted and shared"], begun=False)
    off = [
        _count(stands.more, "cell with more than granted", "cells with more than granted"),
        _count(stands.less, "cell with less", "cells with less"),
    ]
    says = [
        ", ".join(filter(None, off)) or "Everybody gets what is granted",
        _count(stands.broken, "broken promise"),
        _count(stands.serious, "serious finding") or "nothing serious found",
    ]
    return _stage(
        "try",
        says,
        ToDo(act="off", words="See who", count=stands.more + stands.less) if stands.more or stands.less else None,
        ToDo(act="promises", words="See promises", count=stands.broken) if stands.broken else None,
        ToDo(act="findings", words="See findings", count=stands.serious) if stands.serious else None,
    )


def _rolled_out(stands: Known) -> Stage:
    steps = ToDo(act="steps", words="See the steps")
    if stands.rolled is None and not stands.reached:
        says = "Where to is not said yet: over SSH, on this machine, a simulated one, or on paper"
        return _stage("rollout", [says], ToDo(act="destination", words="Choose"), begun=False)
    if stands.rolled is None:
        return _stage("rollout", ["Where to is said; it was never put there"], steps, begun=False)
    if not stands.moved:
        return _stage("rollout", ["The appliance has this plan"])
    cells = _count(stands.rolled, "cell comes out otherwise there", "cells come out otherwise there")
    return _stage("rollout", ["Changed since it was put there", cells], steps)


def _in_step(plan: Plan, stands: Known, on: date) -> Stage:
    if stands.rolled is None:
        return _stage(
            "keep", ["Who joins, moves, leaves; what was changed behind the plan; what ends soon"], begun=False
        )
    ending = [
        user.id
        for user in plan.users.values()
        if user.expires is not None and on < user.expires <= on + SOON and user.active(on)
    ]
    says = _count(len(ending), "account ends within 30 days", "accounts end within 30 days")
    return _stage("keep", [says or "No account ends within 30 days"], _about("ending", "See who", ending))
