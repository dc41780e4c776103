"""A third reading of what stands on a place and what it gives: slow, and written from docs/rules.md, docs/storage.md, acl(5) and RFC 8881 alone.

The two resolvers share the code that says which list stands where and what is compiled; this one shares nothing with them but the records.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from hypothesis import given, settings

from tests.conftest import ON
from tests.plans import plans
from tests.tries import times
from yardgate.core.access.bitsets import count
from yardgate.core.access.membership import token
from yardgate.core.access.spec.explain import explain
from yardgate.core.access.storage import Nfs4State, PosixState, storage_state
from yardgate.core.acl import Mode, Ordered, Posix
from yardgate.core.model.plan import Place, Plan

READ_DATA, WRITE_DATA, APPEND, EXECUTE, DELETE_CHILD, DELETE = 0x1, 0x2, 0x4, 0x20, 0x40, 0x1_0000
LEVELS = ("NA", "PT", "RO", "RW")


# --- who counts as what, and what grants add up to: docs/rules.md -------------------------------------------------------


def counts_as(plan: Plan, subject: str) -> set[str]:
    found = {subject, "everyone"}
    user = plan.users.get(subject)
    if user is not None and user.primary_group is not None:
        found.add(user.primary_group)
    local = user is None or user.origin == "local"
    if plan.target.baseline is not None and (local or plan.target.baseline_covers_directory):
        found.add(plan.target.baseline)
    while True:
        more = {group.id for group in plan.groups.values() if not found.isdisjoint(group.members)} - found
        if not more:
            return found
        found |= more


def granted(plan: Plan, subject: str, grants: list[tuple[str, str]]) -> str | None:
    """What grants (who, level), in list order, add up to; None where none concerns somebody."""
    mine = counts_as(plan, subject)
    if plan.target.administrators in mine:
        return "RW"
    concern = [(who, level) for who, level in grants if who in mine]
    if plan.target.precedence == "nearest":
        widest = {"everyone", plan.target.baseline}
        own = [one for one in concern if one[0] == subject and subject in plan.users]
        groups = [one for one in concern if one not in own and one[0] not in widest]
        concern = own or groups or concern
    levels = [level for _, level in concern]
    if not levels:
        return None
    match plan.target.combining:
        case "refusal":
            return "NA" if "NA" in levels else max(levels)
        case "widest":
            return max(levels)
        case "narrowest":
            return min(levels)
        case "first":
            return levels[0]


def signs_in(plan: Plan, subject: str) -> bool:
    user = plan.users.get(subject)
    return user is None or (user.enabled and not user.gone and (user.expires is None or user.expires > ON))


# --- what stands on a place: docs/storage.md ----------------------------------------------------------------------------


def up(plan: Plan, place: str) -> list[Place]:
    """A place and all above it, the pool last."""
    here = plan.places[place]
    return [here] if here.parent is None else [here, *up(plan, here.parent)]


def style(plan: Plan, place: str) -> str | None:
    return next((one.acl.style for one in up(plan, place) if one.acl is not None), None)


def owner(plan: Plan, place: str) -> str:
    here = plan.places[place]
    if here.owner is not None:
        return here.owner
    return owner(plan, here.parent) if here.kind == "folder" and here.parent is not None else "root"


def group(plan: Plan, place: str) -> str:
    here = plan.places[place]
    if here.group in (None, "root"):
        if here.group is None and here.kind == "folder" and here.parent is not None:
            return group(plan, here.parent)
        return next((one.id for one in plan.groups.values() if one.gid == 0), "root")
    assert here.group is not None
    return here.group


def follows(plan: Plan, place: str) -> str | None:
    """The place whose list comes down here, if any."""
    here = plan.places[place]
    alike = here.parent is not None and style(plan, here.parent) == style(plan, place)
    return here.parent if alike and not here.inheritance_stops else None


def ordered(plan: Plan, place: str) -> list[tuple[str, str, int, str]]:
    """(allow or deny, who, mask, flags in letters) of every entry by hand that stands here."""
    here, above = plan.places[place], follows(plan, place)
    own = here.acl.entries if isinstance(here.acl, Ordered) else ()
    found = [
        (e.type, e.who, e.mask, "".join(letter for bit, letter in enumerate("fdni") if e.flags >> bit & 1)) for e in own
    ]
    for type_, who, mask, flags in ordered(plan, above) if above is not None else []:
        if "d" in flags:
            found.append((type_, who, mask, "" if "n" in flags else flags.replace("i", "")))
        elif "f" in flags and "n" not in flags:
            found.append((type_, who, mask, "fi"))
    return found


def on_files(entries: list[tuple[str, str, int, str]]) -> list[tuple[str, str, int, str]]:
    return [(type_, who, mask, "") for type_, who, mask, flags in entries if "f" in flags]


Entries = dict[tuple[str, str], int]


@dataclass
class Standing:
    access: Entries
    default: Entries | None
    setgid: bool
    sticky: bool

    @property
    def file(self) -> Entries:
        """acl(5), object creation, for mode 0666."""
        made = dict(self.default) if self.default is not None else base(self.access)
        for key in (("user", ""), ("other", ""), ("mask", "") if ("mask", "") in made else ("group", "")):
            made[key] &= 6
        return made


def base(entries: Entries) -> Entries:
    return {key: perms for key, perms in entries.items() if not key[1] and key[0] != "mask"}


def completed(entries: Entries, otherwise: Entries) -> Entries:
    found = {**otherwise, **entries}
    if any(who for _, who in found):
        found.setdefault(("mask", ""), 7)
    return found


def over(own: Entries, below: Entries) -> Entries:
    """Own entries over what comes down, who by who. A mask was made for the entries beside it and does not cover others."""
    return {**{key: perms for key, perms in below.items() if not own or key[0] != "mask"}, **own}


def posix(plan: Plan, place: str) -> Standing:
    here, above = plan.places[place], follows(plan, place)
    if style(plan, place) == "mode":
        bits = here.acl.bits if isinstance(here.acl, Mode) else None
        if bits is None and above is not None:
            came = posix(plan, above)
            return Standing(came.access, None, came.setgid, False)
        bits = 0o700 if bits is None else bits
        access = {("user", ""): bits >> 6 & 7, ("group", ""): bits >> 3 & 7, ("other", ""): bits & 7}
        return Standing(access, None, bool(bits & 0o2000), bool(bits & 0o1000))
    own = here.acl if isinstance(here.acl, Posix) else Posix()
    mine: Entries = {(e.tag, e.who): e.perms for e in own.access}
    came = posix(plan, above) if above is not None else None
    down: Entries = {} if came is None else base(came.access) if came.default is None else came.default
    closed = {("user", ""): 7, ("group", ""): 0, ("other", ""): 0}
    access = completed(over(mine, down), closed)
    default = None
    if own.default is not None or (came is not None and came.default is not None):
        wanted: Entries = {(e.tag, e.who): e.perms for e in own.default or ()}
        default = completed(over(wanted, (came and came.default) or {}), base(access))
    return Standing(access, default, own.setgid or (came is not None and came.setgid), own.sticky)


# --- what it gives ------------------------------------------------------------------------------------------------------


def reads(entries: list[tuple[str, str, int, str]], names: set[str], right: int) -> bool:
    """RFC 8881, 6.2.1: the first entry that names somebody and has the right decides it."""
    for type_, who, mask, flags in entries:
        if who in names and mask & right and "i" not in flags:
            return type_ == "allow"
    return False


def permits(entries: Entries, names: set[str], request: int, is_owner: bool, in_group: bool) -> bool:
    """acl(5), access check algorithm; and as Linux does it, that with an empty mask the mode alone is asked."""
    mask = entries.get(("mask", ""), 7)
    if is_owner:
        return entries["user", ""] & request == request
    if not mask:
        return request == 0 if in_group else entries["other", ""] & request == request
    for (tag, who), perms in entries.items():
        if tag == "user" and who and who in names:
            return perms & mask & request == request
    matching = [p for (tag, who), p in entries.items() if tag == "group" and (who in names if who else in_group)]
    if matching:
        return any(perms & mask & request == request for perms in matching)
    return entries["other", ""] & request == request


def by_list(plan: Plan, subject: str, place: str) -> str:
    """The level that the list of a place gives, by the table of docs/storage.md."""
    user = plan.users.get(subject)
    if style(plan, place) is None or (user is not None and user.uid == 0):
        return "RW"
    names = counts_as(plan, subject)
    is_owner, in_group = user is not None and owner(plan, place) == subject, group(plan, place) in names
    may: Callable[[int], bool]
    file: Callable[[int], bool]
    if style(plan, place) == "ordered":
        names |= {"owner@"} if is_owner else set()
        names |= {"group@"} if in_group else set()
        entries = ordered(plan, place)
        may = lambda right: reads(entries, names, right)  # noqa: E731
        file = lambda right: reads(on_files(entries), names, right)  # noqa: E731
        enters, lists, opens = may(EXECUTE), may(READ_DATA), file(READ_DATA)
        changes = may(WRITE_DATA) and may(APPEND) and (may(DELETE_CHILD) or file(DELETE))
        changes = changes and file(WRITE_DATA) and file(APPEND)
    else:
        here = posix(plan, place)
        ask = lambda of, request: permits(of, names, request, is_owner, in_group)  # noqa: E731
        enters, lists, opens = ask(here.access, 1), ask(here.access, 4), ask(here.file, 4)
        changes = ask(here.access, 3) and (is_owner or not here.sticky) and ask(here.file, 6)
    if not ((enters or plan.target.traverse == "bypassed") and lists and opens):
        return "PT" if enters else "NA"
    return "RW" if changes else "RO"


def outcome(plan: Plan, subject: str, place: str, listed: Callable[[Plan, str, str], str]) -> str:
    """The lowest of the gates: account, grants where the share holds people to them, the way, the list."""
    if not signs_in(plan, subject):
        return "NA"
    found = listed(plan, subject, place)
    if style(plan, place) is None or carrier(plan, place) != "storage":
        found = min(found, granted(plan, subject, list(plan.grants.get(place, {}).items())) or "NA")
    above = up(plan, place)[1:]
    if plan.target.traverse == "checked" and any(listed(plan, subject, one.id) == "NA" for one in above):
        return "NA"
    return found


def carrier(plan: Plan, place: str) -> str:
    return next((one.enforced_by for one in up(plan, place) if one.enforced_by is not None), "share")


# --- held to it ---------------------------------------------------------------------------------------------------------


def by_share(plan: Plan) -> Plan:
    """All lists as written by hand, the share carries the grants: nothing is compiled."""
    return replace(plan, places={p.id: replace(p, enforced_by="share") for p in plan.places.values()})


@settings(max_examples=times(120, 2000))
@given(plans(lists=True))
def test_the_lists_by_hand_stand_as_the_documentation_says_and_give_what_it_says(plan: Plan) -> None:
    plan = replace(by_share(plan), target=replace(plan.target, attributes_open=False))
    state = storage_state(plan, count(plan, ON))
    for place, here in state.items():
        assert (here.owner, here.group) == (owner(plan, place), group(plan, place))
        if isinstance(here.list, Nfs4State):
            assert [(e.type, e.who, e.mask, e.flags & 0xF) for e in here.list.entries] == [
                (type_, who, mask, sum(1 << "fdni".index(letter) for letter in flags))
                for type_, who, mask, flags in ordered(plan, place)
            ]
        elif isinstance(here.list, PosixState):
            wanted = posix(plan, place)
            assert {(e.tag, e.who): e.perms for e in here.list.access} == wanted.access
            assert {(e.tag, e.who): e.perms for e in here.list.file} == wanted.file
            default = here.list.default
            assert (None if default is None else {(e.tag, e.who): e.perms for e in default}) == wanted.default
            assert (here.list.setgid, here.list.sticky) == (wanted.setgid, wanted.sticky)
        else:
            assert style(plan, place) is None
        for subject in (*plan.users, *plan.groups):
            assert explain(plan, subject, place, ON, state).level == outcome(plan, subject, place, by_list), subject


def counting_grants(plan: Plan, place: str) -> list[tuple[str, str]]:
    """The grants that count where lists carry them: a place's own, and those above of whom it says nothing itself."""
    own = list(plan.grants.get(place, {}).items())
    above = follows(plan, place)
    came = counting_grants(plan, above) if above is not None else []
    return own + [(who, level) for who, level in came if who not in dict(own)]


def inside(plan: Plan, place: str) -> Iterator[str]:
    return (other for other in plan.places if other != place and any(one.id == place for one in up(plan, other)))


def by_grants(plan: Plan, subject: str, place: str) -> str:
    """What a compiled list shall give: what the rule gives, and the way through to those granted something deeper down."""
    user = plan.users.get(subject)
    if user is not None and user.uid == 0:
        return "RW"
    grants = counting_grants(plan, place)
    level = granted(plan, subject, grants) if grants else None
    if level is not None or plan.target.traverse == "bypassed":
        return level or "NA"
    names = counts_as(plan, subject)
    deeper = (one for inner in inside(plan, place) for one in plan.grants.get(inner, {}).items())
    return "PT" if any(who in names and level != "NA" for who, level in deeper) else "NA"


@settings(max_examples=times(120, 2000))
@given(plans(lists=False))
def test_compiled_lists_give_what_the_documentation_says(plan: Plan) -> None:
    for own in (Ordered(), Posix()):
        places = {
            p.id: replace(p, acl=own if p.parent is None else None, enforced_by="storage" if p.parent is None else None)
            for p in plan.places.values()
        }
        carried = replace(plan, places=places)
        state = storage_state(carried, count(carried, ON))
        for place in plan.places:
            for subject in (*plan.users, *(plan.groups if own.style == "ordered" else ())):
                said = explain(carried, subject, place, ON, state).level
                assert said == outcome(carried, subject, place, by_grants), (own.style, place, subject)


@given(plans())
def test_who_counts_as_what(plan: Plan) -> None:
    for subject in (*plan.users, *plan.groups):
        assert set(token(plan, subject)) == counts_as(plan, subject)
