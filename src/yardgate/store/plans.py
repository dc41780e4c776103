"""Plans in the database: load, commit edits, undo, redo, history, named versions."""

import json
import secrets
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from threading import Lock
from typing import Literal

from sqlalchemy import Connection, func, insert, select, update

from yardgate.core.edits.apply import exactly, in_step
from yardgate.core.edits.describe import describe
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import Edit, SetGrant
from yardgate.core.edits.taking_back import taken_back
from yardgate.core.model.plan import Plan
from yardgate.formats import edits as edit_json
from yardgate.store import rows, tables
from yardgate.store.database import Store

EntryKind = Literal["create", "edit", "import", "undo", "redo", "return"]
NEWEST = 2**63 - 1
SNAPSHOT = 500  # revisions from one snapshot to the next
OPENED = 16  # plans that are kept in memory


class NotThere(LookupError):
    """No such plan, revision or version."""


class Stale(Exception):
    """The edit was made on an older revision; `since` says what happened meanwhile."""

    def __init__(self, revision: int, since: "tuple[JournalEntry, ...]"):
        self.revision, self.since = revision, since
        super().__init__(f"the plan is at revision {revision} by now")


@dataclass(frozen=True, slots=True)
class JournalEntry:
    """A line of the journal. `edits` lead from the revision before to this one."""

    revision: int
    at: str
    by: str
    kind: EntryKind
    words: str


@dataclass(frozen=True, slots=True)
class Opened:
    """A plan as it is now. done, undone: revisions that undo and redo would take back, the next one last."""

    id: str
    plan: Plan
    revision: int
    archived: bool
    created_at: str
    done: tuple[int, ...]
    undone: tuple[int, ...]


def now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class Plans:
    """All plans of an installation. What is returned is a value; a commit makes the next one."""

    def __init__(self, store: Store):
        self.store = store
        self._cache: dict[str, Opened] = {}
        self._loading, self._keeping = Lock(), Lock()

    # --- reading ---

    def ids(self) -> list[str]:
        with self.store.reading() as connection:
            return list(connection.scalars(select(tables.plans.c.id).order_by(tables.plans.c.created_at)))

    def revision(self, plan_id: str) -> int:
        with self.store.reading() as connection:
            return _revision(connection, plan_id)

    def open(self, plan_id: str) -> Opened:
        with self.store.reading() as connection:
            return self._open(connection, plan_id)

    def _open(self, connection: Connection, plan_id: str) -> Opened:
        cached = self._cache.get(plan_id)
        revision = _revision(connection, plan_id)
        if cached is not None and cached.revision >= revision:  # newer: kept since this connection began to look
            return cached
        with self._loading:  # whoever waits for the same one finds it then
            cached = self._cache.get(plan_id)
            if cached is not None and cached.revision >= revision:
                return cached
            opened = _load(connection, plan_id)
            self._keep_open(opened)
            return opened

    def _keep_open(self, opened: Opened) -> None:
        """Keep a plan in memory, unless a newer one is; the one that was put there longest ago goes."""
        with self._keeping:
            cached = self._cache.pop(opened.id, None)
            newer = cached is not None and cached.revision > opened.revision
            self._cache[opened.id] = cached if cached is not None and newer else opened
            for old in list(self._cache)[:-OPENED]:
                self._cache.pop(old, None)

    def history(
        self, plan_id: str, before: int = NEWEST, most: int = 100, *, text: str = "", by: str = "", about: str = ""
    ) -> list[JournalEntry]:
        """Newest first, from the revision before `before` on. text: in what was done, or by whom, in any case; by: of one account; about: what an
        object of this id had a part in."""
        journal = tables.journal.c
        query = select(journal.revision, journal.at, journal.by, journal.kind, journal.words)
        query = query.where(journal.plan == plan_id, journal.revision < before)
        if text:
            query = query.where(
                journal.words.icontains(text, autoescape=True) | journal.by.icontains(text, autoescape=True)
            )
        if by:
            query = query.where(journal.by == by)
        if about:  # an id stands in the edits as a text of its own
            quoted = json.dumps(about)
            query = query.where(
                journal.edits.contains(quoted, autoescape=True) | journal.inverse.contains(quoted, autoescape=True)
            )
        with self.store.reading() as connection:
            _revision(connection, plan_id)
            return [
                JournalEntry(*row) for row in connection.execute(query.order_by(journal.revision.desc()).limit(most))
            ]

    def granted_by(self, plan_id: str, by: str) -> set[tuple[str, str]]:
        """Who was granted something where, or not any more, by an account, at any time: (who, place)."""
        journal = tables.journal.c
        query = select(journal.edits).where(
            journal.plan == plan_id, journal.by == by, journal.edits.contains('"set-grant"')
        )
        with self.store.reading() as connection:
            _revision(connection, plan_id)
            steps = [edit_json.read(text) for text in connection.execute(query).scalars()]
        return {(edit.who, edit.place) for step in steps for edit in step if isinstance(edit, SetGrant)}

    def revision_on(self, plan_id: str, day: date) -> int:
        """The revision that a plan had at the end of a day (UTC); its first, where it was not there yet."""
        journal = tables.journal.c
        query = select(func.max(journal.revision)).where(
            journal.plan == plan_id, journal.at < (day + timedelta(days=1)).isoformat()
        )
        with self.store.reading() as connection:
            _revision(connection, plan_id)
            first = select(func.min(journal.revision)).where(journal.plan == plan_id)
            return int(connection.execute(query).scalar() or connection.execute(first).scalar() or 0)

    def edits(self, plan_id: str, revision: int) -> tuple[Edit, ...]:
        with self.store.reading() as connection:
            return edit_json.read(_journal_text(connection, plan_id, revision, "edits"))

    def at(self, plan_id: str, revision: int) -> Plan:
        """The plan as it was at a revision: from the next snapshot on, or from now, what came after it is taken back step by step."""
        opened = self.open(plan_id)  # before this connection looks, so that it has all of its journal
        with self.store.reading() as connection:
            if not 0 <= revision <= opened.revision:
                raise NotThere(f"there is no revision {revision} of this plan; it has {opened.revision}")
            plan, last = opened.plan, opened.revision
            snapshots = tables.snapshots.c
            query = select(tables.snapshots).where(snapshots.plan == plan_id, snapshots.revision >= revision)
            near = connection.execute(query.order_by(snapshots.revision).limit(1)).one_or_none()
            if near is not None and near.revision < last:
                plan, _ = exactly(Plan(), edit_json.read(near.edits))
                last = near.revision
            for number in range(last, revision, -1):
                plan, _ = exactly(plan, edit_json.read(_journal_text(connection, plan_id, number, "inverse")))
            return plan

    def replay(self, plan_id: str) -> Plan:
        """The plan rebuilt from nothing by the journal alone."""
        plan = Plan()
        for number in range(1, self.open(plan_id).revision + 1):
            plan, _ = exactly(plan, self.edits(plan_id, number))
        return plan

    # --- writing ---

    def create(self, plan: Plan, by: str) -> Opened:
        plan_id = secrets.token_hex(6)
        first = difference(Plan(), plan)
        _, inverse = exactly(Plan(), first)
        with self.store.writing() as connection:
            head = {**rows.head(Plan()), "id": plan_id, "revision": 0, "archived": False, "created_at": now()}
            connection.execute(insert(tables.plans).values(head))
            rows.write(connection, plan_id, Plan(), plan)
            _log(connection, plan_id, 1, by, "create", "plan made", first, inverse)
        return self.open(plan_id)

    def commit(
        self,
        plan_id: str,
        revision: int,
        edits: Sequence[Edit],
        by: str,
        kind: EntryKind = "edit",
        words: str | None = None,
    ) -> Opened:
        """Keep edits made on `revision`, and what goes with them: tables and journal in one transaction, on disk when this returns.

        Edits that change nothing keep nothing. Raises Stale, PlanError, NotThere.
        """
        with self.store.reading() as connection:
            opened = self._current(connection, plan_id, revision)
        whole = tuple(edits) if kind == "return" else in_step(opened.plan, tuple(edits))
        after, inverse = exactly(opened.plan, whole)
        if not inverse:
            return opened
        said = words or describe(opened.plan, after, edits)
        with self.store.writing() as connection:  # others may have written while this was worked out
            opened = self._current(connection, plan_id, revision)
            return self._keep(connection, opened, after, whole, inverse, by, kind, said)

    def undo(self, plan_id: str, revision: int, by: str) -> Opened:
        return self._step(plan_id, revision, by, "undo")

    def redo(self, plan_id: str, revision: int, by: str) -> Opened:
        return self._step(plan_id, revision, by, "redo")

    def _step(self, plan_id: str, revision: int, by: str, kind: Literal["undo", "redo"]) -> Opened:
        with self.store.writing() as connection:
            opened = self._current(connection, plan_id, revision)
            stack = opened.done if kind == "undo" else opened.undone
            if not stack:
                raise NotThere(f"there is nothing to {kind}")
            edits = edit_json.read(_journal_text(connection, plan_id, stack[-1], "inverse"))
            after, inverse = exactly(opened.plan, edits)
            words = (
                _journal_text(connection, plan_id, stack[-1], "words").removeprefix("undid: ").removeprefix("redid: ")
            )
            return self._keep(
                connection,
                opened,
                after,
                edits,
                inverse,
                by,
                kind,
                f"{'undid' if kind == 'undo' else 'redid'}: {words}",
            )

    def back_to(self, plan_id: str, revision: int, target: int, by: str) -> Opened:
        """Make the plan what it was at revision `target`, as one new change."""
        then = self.at(plan_id, target)
        edits = difference(self.open(plan_id).plan, then)
        return self.commit(plan_id, revision, edits, by, "return", f"returned to revision {target}")

    def take_back(self, plan_id: str, revision: int, step: int, by: str) -> Opened:
        """Take back what one step changed, and leave what came after it, as one new change. Raises PlanError where it was overtaken."""
        opened = self.open(plan_id)
        if not 1 <= step <= opened.revision:
            raise NotThere(f"there is no step {step} of this plan; it has {opened.revision}")
        with self.store.reading() as connection:
            words = _journal_text(connection, plan_id, step, "words")
        edits = taken_back(self.at(plan_id, step - 1), self.at(plan_id, step), opened.plan)
        return self.commit(plan_id, revision, edits, by, "return", f"took back {step}: {words}")

    def archive(self, plan_id: str, archived: bool) -> None:
        with self.store.writing() as connection:
            _revision(connection, plan_id)
            connection.execute(update(tables.plans).where(tables.plans.c.id == plan_id).values(archived=archived))
        self._cache.pop(plan_id, None)

    def _current(self, connection: Connection, plan_id: str, revision: int) -> Opened:
        opened = self._open(connection, plan_id)
        if opened.revision != revision:
            journal = tables.journal.c
            query = select(journal.revision, journal.at, journal.by, journal.kind, journal.words)
            query = (
                query.where(journal.plan == plan_id, journal.revision > revision)
                .order_by(journal.revision.desc())
                .limit(50)
            )
            raise Stale(opened.revision, tuple(JournalEntry(*row) for row in connection.execute(query)))
        return opened

    def _keep(
        self,
        connection: Connection,
        opened: Opened,
        after: Plan,
        edits: Sequence[Edit],
        inverse: Sequence[Edit],
        by: str,
        kind: EntryKind,
        words: str,
    ) -> Opened:
        revision = opened.revision + 1
        rows.write(connection, opened.id, opened.plan, after)
        _log(connection, opened.id, revision, by, kind, words, edits, inverse)
        if revision % SNAPSHOT == 0:
            whole = edit_json.write(difference(Plan(), after))
            connection.execute(insert(tables.snapshots).values(plan=opened.id, revision=revision, edits=whole))
        connection.commit()
        done, undone = _stacks(((revision, kind),), opened.done, opened.undone)
        kept = replace(opened, plan=after, revision=revision, done=done, undone=undone)
        self._keep_open(kept)
        return kept

    # --- named versions ---

    def name_version(self, plan_id: str, name: str, by: str) -> None:
        """Call the present revision `name`. Raises ValueError where a version has that name already."""
        with self.store.writing() as connection:
            revision = _revision(connection, plan_id)
            versions = tables.versions.c
            if connection.scalar(select(versions.name).where(versions.plan == plan_id, versions.name == name)):
                raise ValueError(f"there is a version {name!r} already; choose another name")
            connection.execute(
                insert(tables.versions).values(plan=plan_id, name=name, revision=revision, at=now(), by=by)
            )

    def versions(self, plan_id: str) -> list[tuple[str, int, str, str]]:
        """(name, revision, at, by), newest first."""
        versions = tables.versions.c
        with self.store.reading() as connection:
            _revision(connection, plan_id)
            query = select(versions.name, versions.revision, versions.at, versions.by).where(versions.plan == plan_id)
            return [
                (row.name, row.revision, row.at, row.by)
                for row in connection.execute(query.order_by(versions.revision.desc()))
            ]


# --- rows -------------------------------------------------------------------------------------------------------------


def _revision(connection: Connection, plan_id: str) -> int:
    found = connection.scalar(select(tables.plans.c.revision).where(tables.plans.c.id == plan_id))
    if found is None:
        raise NotThere("there is no such plan")
    return int(found)


def _journal_text(connection: Connection, plan_id: str, revision: int, column: str) -> str:
    journal = tables.journal.c
    found = connection.scalar(select(journal[column]).where(journal.plan == plan_id, journal.revision == revision))
    if found is None:
        raise NotThere(f"there is no revision {revision} of this plan")
    return str(found)


def _stacks(
    entries: Iterable[tuple[int, str]], done: tuple[int, ...] = (), undone: tuple[int, ...] = ()
) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """What undo and redo would take back after some journal entries: any other change forgets what was undone."""
    done_, undone_ = list(done), list(undone)
    for revision, kind in entries:
        if kind == "undo":
            done_.pop()
            undone_.append(revision)
        elif kind == "redo":
            undone_.pop()
            done_.append(revision)
        elif kind != "create":
            done_.append(revision)
            undone_.clear()
    return tuple(done_), tuple(undone_)


def _load(connection: Connection, plan_id: str) -> Opened:
    head = connection.execute(select(tables.plans).where(tables.plans.c.id == plan_id)).mappings().one_or_none()
    if head is None:
        raise NotThere("there is no such plan")
    plan = rows.read(connection, plan_id, head)
    journal = tables.journal.c
    entries = connection.execute(
        select(journal.revision, journal.kind).where(journal.plan == plan_id).order_by(journal.revision)
    )
    done, undone = _stacks((row.revision, row.kind) for row in entries)
    return Opened(plan_id, plan, head["revision"], head["archived"], head["created_at"], done, undone)


def _log(
    connection: Connection,
    plan_id: str,
    revision: int,
    by: str,
    kind: EntryKind,
    words: str,
    edits: Sequence[Edit],
    inverse: Sequence[Edit],
) -> None:
    connection.execute(
        insert(tables.journal).values(
            plan=plan_id,
            revision=revision,
            at=now(),
            by=by,
            kind=kind,
            words=words,
            edits=edit_json.write(edits),
            inverse=edit_json.write(inverse),
        )
    )
    connection.execute(update(tables.plans).where(tables.plans.c.id == plan_id).values(revision=revision))
