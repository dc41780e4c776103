"""Whom and which place a table means, as people write names: in any order, by mail, by sign-in name, by the paths of shares and folders."""

import re
from collections.abc import Iterator
from difflib import get_close_matches

from yardgate.core.model.names import Names
from yardgate.core.model.naming import fold
from yardgate.core.model.plan import Plan

NEAR = 0.8  # how alike two names are, from 0 to 1, of which one may be meant by the other
APART = re.compile(r"[\s,]+")


class Lookup:
    """Names of a plan, looked up as `Names` does, and where that finds nobody in other ways that mean just one."""

    def __init__(self, plan: Plan):
        self.plan, self.names = plan, Names(plan)
        self._by_words: dict[frozenset[str], set[str]] = {}
        self._by_local_part: dict[str, set[str]] = {}
        for user in plan.users.values():
            words = frozenset(APART.split(fold(user.full_name)))
            self._by_words.setdefault(words, set()).add(user.id)
            for name in (user.name, *user.aliases):
                self._by_local_part.setdefault(fold(name).partition("@")[0], set()).add(user.id)
        self._endings: dict[str, list[str]] = {}
        for place in plan.places:
            steps = fold(plan.path_name(place)).split("/")
            for first in range(len(steps)):
                self._endings.setdefault("/".join(steps[first:]), []).append(place)
        self._shares = {fold(share.name): share.place for share in plan.shares.values()}

    def who(self, text: str) -> tuple[str, ...]:
        """Ids of all whom a text may mean; more than one is ambiguous, none is unknown."""
        for name in _forms(text):
            if found := self.names.who(name):
                return found
        words = frozenset(APART.split(fold(text.strip(" ,"))))
        if len(words) > 1 and (found := tuple(self._by_words.get(words, ()))):
            return found
        if re.fullmatch(r"[^@\s]+@[^@\s]+\.[^@\s]+", text):
            return tuple(self._by_local_part.get(fold(text).partition("@")[0], ()))
        return ()

    def place(self, text: str) -> tuple[str, ...]:
        """Ids of all places that a name, or a path in whichever form, may mean."""
        if found := self.names.place(text):
            return found
        path = plain_path(text)
        if found := self.names.place(path):
            return found
        server = text.startswith(("\\\\", "//"))
        steps = path.split("/")[1:] if server else path.split("/")
        if steps and (top := self._shares.get(fold(steps[0]))) is not None:
            below = "/".join([self.plan.path_name(top), *steps[1:]])
            if found := self.names.place(below):
                return found
        for first in range(
            len(steps) - 1
        ):  # /srv/keel/office, where the pool is keel; then office/payroll, somewhere below it
            if len(found := self.names.place("/".join(steps[first:]))) == 1:
                return found
        return tuple(self._endings.get(fold("/".join(steps)), ())) if len(steps) > 1 else ()

    def near(self, text: str, *, place: bool = False) -> tuple[str, ...]:
        """Names that may be meant by one that is unknown, the likeliest first."""
        said = self.names.places if place else {**self.names.users, **self.names.groups}
        wanted = fold(plain_path(text) if place else text)
        found = get_close_matches(wanted, said, 3, NEAR) if len(said) <= 20_000 else []
        ids = dict.fromkeys(said[name][0] for name in found)
        return tuple(self.plan.path_name(one) if place else self.plan.called(one) for one in ids)


def _forms(text: str) -> Iterator[str]:
    """A name as it stands, and without what stands in brackets beside it, or that alone."""
    plain = " ".join(text.split())
    yield plain
    if matched := re.fullmatch(r"(.+?)\s*[(<\[]([^()<>\[\]]+)[)>\]]", plain):
        yield matched[2].strip()
        yield matched[1]
    if plain.count(",") == 1:
        yield " ".join(part.strip() for part in reversed(plain.split(",")))


def plain_path(text: str) -> str:
    """A path as a plan has it: without drive, with slashes and no blanks around them."""
    path = re.sub(r"^[A-Za-z]:(?=[\\/])", "", text.strip())
    return "/".join(step.strip() for step in re.split(r"[\\/]+", path) if step.strip())
