"""Which steps hang on which: what may be left for later, and in which order people may do them by hand."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from yardgate.core.acl import Posix
from yardgate.core.host.share_lists import GROUP_MARK
from yardgate.core.host.state import PARTS, Dataset, Export, Folder, HostAccount, Members, Offer, RecordKind
from yardgate.core.host.steps import Step, holds, number_of


def needs(found: Sequence[Step], of: Sequence[Step] | None = None) -> Mapping[str, frozenset[str]]:
    """For each step (or for some `of` them), the ids of those that must be done before it: what makes or renames whatever it names, what
    gives up the number that it takes, and what ends the export whose name, or whose folder and host, it takes."""
    made: dict[RecordKind, dict[str, str]] = {part: {} for part in PARTS}
    ended: dict[str | tuple[str, str], str] = {}
    free: dict[tuple[RecordKind, int | None], str] = {}
    waits: dict[str, str] = {}
    for step in found:
        own, does = step.id, step.does
        if step.renumbers and step.before is not None:
            free[step.part, number_of(step.before)] = own
        if (giver := free.get((step.part, number_of(step.after)))) is not None:
            waits[own] = giver
        if does in ("make", "rename"):
            made[step.part][step.record.name] = own
        elif does == "remove" and isinstance(step.before, Export):
            ended |= dict.fromkeys([step.before.name, *holds(step.before)], own)

    def before(step: Step, own: str) -> Iterator[str]:
        for part, names in _names(step):
            yield from (made[part][name] for name in made[part].keys() & names)
        if isinstance(step.after, Export):
            yield from (ended[one] for one in (step.after.name, *holds(step.after)) if one in ended)
        if own in waits:
            yield waits[own]

    return {own: frozenset(before(step, own)) - {own} for step in (found if of is None else of) for own in (step.id,)}


def _names(step: Step) -> Iterator[tuple[RecordKind, Iterable[str]]]:
    """Whom and what a record names, as it shall be."""
    match step.after:
        case HostAccount(name=name, primary=primary):
            yield "groups", (primary,)
            yield "accounts", (name,)
        case Members(name=name, users=users):
            yield "groups", (name,)
            yield "accounts", users
        case Dataset(name=name, group_quotas=quotas):
            yield "folders", (name.rpartition("/")[0],)
            yield "datasets", _above(name)
            yield "groups", [quota.group for quota in quotas]
        case Folder(name=name, owner=owner, group=group, listed=listed):
            yield "folders", (name, *_above(name))
            yield "datasets", (name, *_above(name))
            yield "accounts", (owner,)
            yield "groups", (group,)
            if isinstance(listed, Posix):
                said = [(e.tag, e.who) for e in (*listed.access, *(listed.default or ()))]
                yield "groups", [who for tag, who in said if tag == "group"]
                yield "accounts", [who for tag, who in said if tag != "group"]
            else:
                yield from _marked(entry.who for entry in listed.entries)
        case Offer(path=path) as offer:
            yield "folders", (path,)
            yield "datasets", (path, *_above(path))
            acting = {offer.acts_as, f"{GROUP_MARK}{offer.acts_as_group}"} - {"", GROUP_MARK}
            yield from _marked({*offer.named, *offer.roots, *acting})
        case Export(path=path):
            yield "folders", (path,)
            yield "datasets", (path, *_above(path))
        case _:
            pass


def _above(path: str) -> Iterator[str]:
    """The folders above a path, the nearest first."""
    while path := path.rpartition("/")[0]:
        yield path


def _marked(names: Iterable[str]) -> Iterator[tuple[RecordKind, Iterable[str]]]:
    """The groups and the accounts of names of which those of groups are marked."""
    some = list(names)
    yield "groups", [who.removeprefix(GROUP_MARK) for who in some if who.startswith(GROUP_MARK)]
    yield "accounts", [who for who in some if not who.startswith(GROUP_MARK)]


def anew(found: Sequence[Step]) -> Mapping[str, str]:
    """Of what is ended only to be made anew: the id of the step that ends it -> of the one that makes it."""
    making = {step.id for step in found if step.does == "make"}
    return {s.id: made for s in found if s.does == "remove" and (made := f"{s.part}:{s.record.name}") in making}


def chosen(found: Sequence[Step], left: Collection[str]) -> tuple[Step, ...]:
    """The steps without those left for later, without what needs one of these, and without the end of what would not be made anew."""
    if not left:
        return tuple(found)
    out, hangs, again = set(left), needs(found), anew(found)
    while more := {s.id for s in found if s.id not in out and (hangs[s.id] & out or again.get(s.id) in out)}:
        out |= more
    return tuple(step for step in found if step.id not in out)


def in_the_way(found: Sequence[Step], place: int, done: Collection[int], *, undo: bool = False) -> Step | None:
    """Of steps that are done by hand, one by one, one that has to come before the one at a place; undo: one that needs it and is done.

    done: the places of those that are done.
    """
    hangs, mine = needs(found), found[place]
    for at, other in enumerate(found):
        if undo and at in done and mine.id in hangs[other.id]:
            return other
        if not undo and at not in done and other.id in hangs[mine.id]:
            return other
    return None
