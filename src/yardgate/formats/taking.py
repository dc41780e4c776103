"""The plan as it is so far, while a file server is taken in, and what is told of it."""

from collections.abc import Sequence
from dataclasses import replace

from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, PutGroup, PutPlace, PutShare, PutUser
from yardgate.core.model.names import fresh_id, ids_of
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Place, Plan
from yardgate.formats.everybody import Levels
from yardgate.formats.listed import steps
from yardgate.formats.reading import Note, Reading, Toward, Unknown


class Taking:
    """Builds a plan from what several files say. tops: path of a topmost folder -> its pool. listed: all folders of which a list was given.
    lists: place -> what everybody gets there by the share that said it. exported: shares to which an export was added."""

    def __init__(self, plan: Plan):
        self._plan = plan
        self._waiting: list[Edit] = []
        self._ids = ids_of(plan)
        self.edits: list[Edit] = []
        self.notes: list[Note] = []
        self.unknown: list[Unknown] = []
        self.tops: dict[str, str] = {}
        self.listed: set[str] = set()
        self.lists: dict[str, Levels] = {}
        self.exported: set[str] = set()
        self._within = {_key(place.parent, place.name): place.id for place in plan.places.values()}

    @property
    def plan(self) -> Plan:
        """The plan as it is so far. What was done since somebody last looked is worked in at once: a plan is whole, and checked as one."""
        if self._waiting:
            self._plan, _ = apply(self._plan, self._waiting)
            self._waiting = []
        return self._plan

    def do(self, edits: Sequence[Edit]) -> None:
        self._waiting += edits
        self.edits += edits
        self._ids |= {one for edit in edits if (one := _put(edit)) is not None}
        self._within |= {
            _key(edit.place.parent, edit.place.name): edit.place.id for edit in edits if isinstance(edit, PutPlace)
        }

    def take(self, file: str, reading: Reading) -> None:
        self.do(reading.edits)
        self.notes += [replace(note, file=note.file or file) for note in reading.notes]
        self.unknown += reading.unknown

    def say(
        self, file: str, line: int | None, text: str, toward: Toward | None = None, about: Sequence[str] = ()
    ) -> None:
        self.notes.append(Note(line, text, file, toward, tuple(about)))

    def fresh(self, name: str) -> str:
        """A new id."""
        return fresh_id(name, self._ids)

    def place(self, path: str) -> str | None:
        """The place of a folder by its path; made, where the folder just follows the one above and is no place yet. None: it is not there."""
        path = plain_path(path)
        top = next((top for top in self.tops if path == top or path.startswith(f"{top.rstrip('/')}/")), None)
        if top is None or path not in self.listed:
            return None
        found = self.tops[top]
        for step in (step for step in path[len(top) :].split("/") if step):
            there = self._within.get(_key(found, step))
            if there is None:
                there = self.fresh(step)
                self.do([PutPlace(Place(id=there, name=step, kind="folder", parent=found))])
            found = there
        return found


def _put(edit: Edit) -> str | None:
    """The id of what an edit puts into the plan."""
    match edit:
        case PutUser(user=one) | PutGroup(group=one) | PutPlace(place=one) | PutShare(share=one):
            return one.id
        case _:
            return None


def _key(parent: str | None, name: str) -> tuple[str | None, str]:
    return parent, fold(name)


def plain_path(path: str) -> str:
    """A path from the root without doubled slashes and dots that mean the folder itself."""
    return "/" + "/".join(steps(path))
