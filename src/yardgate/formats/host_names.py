"""Whom the names and numbers of a Unix host mean in a plan; those that nobody knows are kept as the server's own."""

from collections.abc import Collection, Iterator

from yardgate.core.edits.records import Edit, PutGroup, PutUser
from yardgate.core.model.mentions import mentioned
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, name_trouble, show
from yardgate.core.model.plan import LARGEST_NUMBER, LOCAL, ROOT, Group, Place, Plan, User
from yardgate.formats.reading import FormatError, Make, Note, Unknown


def known_as(plan: Plan, account: User | Group, *, plain: bool = False) -> Iterator[str]:
    """What a host calls an account, folded: one of a directory by the short or the DNS name of its domain, as winbindd(8) knows it, and by
    its plain name only where the host takes that for the directory's (`plain`)."""
    directory = plan.directories.get(account.origin)
    if directory is None or plain:
        yield fold(account.name)
    if directory is not None:
        yield fold(f"{directory.name}\\{account.name}")
        yield fold(f"{directory.domain}\\{account.name}")
        yield fold(f"{account.name}@{directory.domain}")


class HostNames:
    """Names and numbers of accounts as a Unix host writes them, exactly or in any case."""

    def __init__(self, plan: Plan, make: Make, domain: str = ""):
        """domain: what stands behind the @ of the host's own accounts."""
        self.make, self.domain = make, fold(domain)
        self.edits: list[Edit] = []
        self.unknown: list[Unknown] = []
        self.taken = {*plan.users, *plan.groups, *plan.places}
        self.roots: dict[tuple[str, str], str] = {}  # root as an account of the plan, where a list names it
        self.just_so: dict[tuple[str, str], str] = {}  # as the host writes it: two may differ in case alone
        self.ids: dict[tuple[str, str], str] = {}
        self.asked: dict[tuple[str, str], str] = {}  # what `id` said, by the name as it was written
        accounts: dict[str, list[User | Group]] = {"user": [*plan.users.values()], "group": [*plan.groups.values()]}
        for kind, records in accounts.items():
            for record in sorted(records, key=lambda record: record.origin != LOCAL):  # a plain name is the host's own
                number = record.uid if isinstance(record, User) else record.gid
                names = known_as(plan, record, plain=True)
                self.just_so.setdefault(
                    (kind, record.name if record.origin == LOCAL else record.name.lower()), record.id
                )
                for name in (*names, *([str(number)] if number is not None else [])):
                    self.ids.setdefault((kind, name), record.id)
                if number == 0:
                    self.roots[kind, ROOT] = record.id
            for name in (ROOT, "0"):
                self.ids.setdefault((kind, name), ROOT)

    def id(self, kind: str, name: str, line: int) -> str:
        """The id of a user or group; one that nobody knows is made, as the host's own where nothing else is wanted."""
        if (kind, name) not in self.asked:
            self.asked[kind, name] = self._id(kind, name, line)
        return self.asked[kind, name]

    def _id(self, kind: str, name: str, line: int) -> str:
        before, _, after = name.rpartition("@")
        if before and fold(after) == self.domain and (kind, fold(name)) not in self.ids:
            name = before
        if name.isascii() and name.isdigit():
            name = name.lstrip("0") or "0"
        key = kind, fold(name)
        if (found := self.just_so.get((kind, name), self.ids.get(key))) is not None:
            return found
        if (why := name_trouble(name)) is not None:
            raise FormatError(f"the name {show(name)} {why}", line, 1)
        number = int(name) if name.isascii() and name.isdigit() and int(name) <= LARGEST_NUMBER else None
        wanted = self.make.get(f"{kind}:{name}") or self.make.get(name)
        if wanted is None or (wanted == "group") != (kind == "group"):
            wanted = None
            self.unknown.append(Unknown(line, name, "group" if kind == "group" else "who"))
        return self._made(kind, name, number, wanted)

    def named(self, kind: str, name: str, line: int) -> str:
        """As `id`, for an entry of a list; root, who passes every list, comes in as an account of the host's."""
        found = self.id(kind, name, line)
        if found != ROOT:
            return found
        if (kind, ROOT) not in self.roots:
            self.roots[kind, ROOT] = self._made(kind, ROOT, 0, None)
        return self.roots[kind, ROOT]

    def _made(self, kind: str, name: str, number: int | None, wanted: str | None) -> str:
        new = fresh_id(name, self.taken)
        self.taken.add(new)
        known = wanted is not None
        self.edits.append(
            PutGroup(Group(id=new, name=name, gid=number, of_host=not known))
            if kind == "group"
            else PutUser(
                User(
                    id=new,
                    name=name,
                    uid=number,
                    kind="service" if wanted != "person" else "person",
                    of_host=not known,
                    enabled=known,
                )
            )
        )
        if name != ROOT:
            self.ids[kind, fold(name)] = new
        return new

    def notes(self, places: Collection[Place]) -> Iterator[Note]:
        """What is said of those whom nobody knew. places: whose lists and owners may be among them."""
        for of, one, many in (("who", "account", "accounts"), ("group", "group", "groups")):
            found = [name for name in self.unknown if name.of == of]
            if not found:
                continue
            names = ", ".join(show(name.name) for name in found[:8]) + (" and more" if len(found) > 8 else "")
            what = f"{one} {names}" if len(found) == 1 else f"{len(found)} {many} ({names})"
            kind = "user" if of == "who" else "group"
            ids = {self.ids[kind, fold(name.name)] for name in found}
            owner = "whoever that is" if len(found) == 1 else "whoever these are"
            yield Note(
                found[0].line,
                f"nobody knows the {what}, {owner}: kept in the lists as the server's own, and nobody of the plan counts as it",
                toward="more",
                about=tuple(place.id for place in places if not ids.isdisjoint(mentioned(place))),
                lines=len(found),
            )
