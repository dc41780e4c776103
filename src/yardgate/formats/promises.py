"""Promises as people write them: one as a sentence, many as a table (columns who, but, must, act, place, over, note).

The sentence: WHO [but WHO, WHO and WHO] must [not] [be able to] see|read|write PLACE [over SMB|NFS]. For “must” also “can” and “may” are
read; “nobody but WHO can” and “only WHO can” say what “everyone but WHO must not” says.
"""

import re
from collections.abc import Collection, Iterator
from dataclasses import replace
from typing import Any

from yardgate.core.edits.describe import promised
from yardgate.core.edits.records import PutPromise
from yardgate.core.model.agreements import Promise
from yardgate.core.model.names import Names, fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import GUEST, Plan
from yardgate.formats import table
from yardgate.formats.reading import FormatError, Note, Reading

COLUMNS = ("who", "but", "must", "act", "place", "over", "note")
_SENTENCE = re.compile(
    r"(?P<who>.+?)\s+(?:must|can|may)(?P<no>\s*not)?\s+(?:be\s+able\s+to\s+)?"
    r"(?P<act>see|read|write)\s+(?P<place>.+?)(?:\s+over\s+(?P<over>smb|nfs))?\s*\.?",
    re.IGNORECASE,
)
_NOBODY_BUT = re.compile(r"(?:nobody|no one|none)(?P<but>\s+but\s.+)?|only\s(?P<only>.+)", re.IGNORECASE)
_FORM = "WHO must (not) be able to see, read or write PLACE, as in “Everyone but Ledger must not be able to read office/payroll”"


def read_sentence(plan: Plan, text: str) -> Promise:
    """The promise that a sentence makes, with a fresh id. Raises FormatError, in words."""
    plain = " ".join(text.split())
    found = _SENTENCE.fullmatch(plain)
    if found is None:
        raise FormatError(f"this is not a promise: write {_FORM}")
    names = Names(plan)
    said, must = found["who"], found["no"] is None
    if not _meant(names, said) and (nobody := _NOBODY_BUT.fullmatch(said)):
        if not must:
            raise FormatError(f"twice not: write {_FORM}")
        said, must = f"everyone but {nobody['only']}" if nobody["only"] else f"everyone{nobody['but'] or ''}", False
    who, but = _whos(names, said)
    place = _place(names, found["place"])
    over: Any = found["over"].lower() if found["over"] else None
    act: Any = found["act"].lower()
    promise = Promise(id="", who=who, except_for=but, must=must, act=act, place=place, protocol=over)
    return _numbered(plan, promise, plan.promises.keys())


def _numbered(plan: Plan, promise: Promise, taken: Collection[str]) -> Promise:
    return replace(promise, id=fresh_id(f"promise {promised(plan, promise)}", taken))


def _whos(names: Names, text: str) -> tuple[str, frozenset[str]]:
    """Of whom a sentence speaks, and whom it leaves out; a name with “but” in it is tried whole first."""
    if _meant(names, text):
        return _one(names, text), frozenset()
    who, but, rest = text.partition(" but ")
    if not but:
        return _one(names, text), frozenset()
    return _one(names, who), frozenset(_listed(names, rest))


def _listed(names: Names, text: str) -> Iterator[str]:
    if _meant(names, text):
        yield _one(names, text)
        return
    for separator in (", ", ";", " and "):
        first, found, rest = text.partition(separator)
        if found and rest.strip():
            yield from _listed(names, first.strip())
            yield from _listed(names, rest.strip().removeprefix("and "))
            return
    yield _one(names, text)


def _meant(names: Names, text: str) -> tuple[str, ...]:
    name = text.strip()
    if fold(name) in ("guest", "guests", "a guest"):
        return (GUEST,)
    return names.who("everyone" if fold(name) in ("everybody", "all") else name)


def _one(names: Names, text: str) -> str:
    found = _meant(names, text)
    if len(found) == 1:
        return found[0]
    if not found:
        raise FormatError(f"{show(text)} is nobody in this plan")
    raise FormatError(
        f"{show(text)} may mean several: {', '.join(found)}; write person:… or group:… before it, or the directory's short name"
    )


def _place(names: Names, text: str) -> str:
    found = names.place(text) or names.place("/".join(part.strip() for part in text.split("/")))
    if len(found) == 1:
        return found[0]
    if not found:
        raise FormatError(f"{show(text)} is not a place of this plan")
    raise FormatError(f"{show(text)} may mean several places: {', '.join(found)}; write the path from the pool")


# --- tables -----------------------------------------------------------------------------------------------------------


def write(plan: Plan) -> str:
    """All promises as CSV, by place."""
    rows = sorted(plan.promises.values(), key=lambda p: (plan.path_name(p.place), promised(plan, p)))
    return table.write([COLUMNS, *(_row(plan, promise) for promise in rows)])


def _row(plan: Plan, promise: Promise) -> tuple[str, ...]:
    but = "; ".join(sorted(_name(plan, who) for who in promise.except_for))
    must = "must" if promise.must else "must not"
    over = (promise.protocol or "").upper()
    return _name(plan, promise.who), but, must, promise.act, plan.path_name(promise.place), over, promise.note


def _name(plan: Plan, who: str) -> str:
    account = plan.account(who)
    if account is None:
        return who
    return f"{'person' if who in plan.users else 'group'}:{plan.called(who)}"


def read(plan: Plan, text: str) -> Reading:
    """A table of promises as edits; those that the plan has already are left out. Raises FormatError."""
    rows = list(table.rows(text))
    line, header = rows[0]
    at = {fold(name): number for number, name in enumerate(header)}
    if missing := [name for name in ("who", "must", "act", "place") if name not in at]:
        raise FormatError(f"there is no column {', '.join(missing)}; the columns are {', '.join(COLUMNS)}", line, 1)
    names, notes, edits = Names(plan), [], []
    has = {_content(promise) for promise in plan.promises.values()}
    taken = set(plan.promises)
    for line, fields in rows[1:]:
        said = {name: fields[at[name]].strip() if name in at and at[name] < len(fields) else "" for name in COLUMNS}
        try:
            promise = _of_row(names, said)
        except FormatError as error:
            raise FormatError(error.plain, line) from None
        if _content(promise) in has:
            notes.append(Note(line, f"promised already: {promised(plan, promise)}"))
            continue
        has.add(_content(promise))
        promise = _numbered(plan, promise, taken)
        taken.add(promise.id)
        edits.append(PutPromise(promise))
    return Reading(tuple(edits), tuple(notes))


def _of_row(names: Names, said: dict[str, str]) -> Promise:
    must = fold(said["must"])
    if must not in ("must", "must not", "yes", "no"):
        raise FormatError(f"{show(said['must'])} in column must: it takes must or must not")
    act: Any = fold(said["act"])
    if act not in ("see", "read", "write"):
        raise FormatError(f"{show(said['act'])} in column act: it takes see, read or write")
    over: Any = fold(said["over"]) or None
    if over not in (None, "smb", "nfs"):
        raise FormatError(f"{show(said['over'])} in column over: it takes SMB, NFS or nothing")
    but = frozenset(_one(names, part) for part in said["but"].split(";") if part.strip())
    place, who = _place(names, said["place"]), _one(names, said["who"])
    return Promise(
        id="",
        who=who,
        except_for=but,
        must=must in ("must", "yes"),
        act=act,
        place=place,
        protocol=over,
        note=said["note"],
    )


def _content(promise: Promise) -> tuple[object, ...]:
    return promise.who, promise.except_for, promise.must, promise.act, promise.place, promise.protocol
