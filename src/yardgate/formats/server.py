"""A Linux file server taken in whole: accounts, folders with owners and lists, shares over SMB, exports over NFS.

From the texts of its files, whether they were copied from it or read there. What was not understood is noted line by line.
"""

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from yardgate.core.access.combining import TieredGrant, decide
from yardgate.core.access.membership import token
from yardgate.core.access.storage import tier_of
from yardgate.core.acl.rights import Level
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import Edit, PutPlace, PutShare, PutUser, SetGrant
from yardgate.core.host.state import ADMIN
from yardgate.core.model.names import fresh_id
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import EVERYONE, LOCAL, Group, Place, Plan, User
from yardgate.core.model.share import HostRule, Share, Squash, hosts, share_name_trouble
from yardgate.formats import accounts, listing, posix_text, smb_server
from yardgate.formats.reading import FormatError, Make, Note, Reading
from yardgate.formats.smb_server import DECIDING, UNSAID, Configuration, Section

GUEST_NAMES = {"nobody", "guest"}


@dataclass(frozen=True, kw_only=True)
class Copied:
    """The texts of a server. smb: files of the SMB server's configuration, by path. listing: what getfacl(1) says of folders, each path from
    the root. smb_accounts: what `pdbedit -L -v` says."""

    passwd: str = ""
    group: str = ""
    smb: Mapping[str, str] = field(default_factory=dict)
    main: str = smb_server.MAIN
    exports: str = ""
    listing: str = ""
    smb_accounts: str = ""


def read(
    plan: Plan,
    copied: Copied,
    make: Make | None = None,
    lowest: int = accounts.LOWEST,
    highest: int = accounts.HIGHEST,
) -> Reading:
    """The edits that bring a server into a plan: accounts with numbers from lowest to highest, and those that its folders and its SMB server
    name, whatever their numbers. Raises FormatError with line and column."""
    taking = _Taking(plan)
    if copied.passwd:
        also = _named(copied) - {ADMIN, *GUEST_NAMES}
        people = accounts.read(taking.plan, copied.passwd, copied.group, lowest, highest, also=also)
        taking.take("passwd, group", people)
    if copied.smb_accounts:
        taking.shut(copied.smb_accounts)
    for top, text in _listings(copied.listing):
        named = top.rpartition("/")[2] or "pool"
        reading = listing.read(taking.plan, text, "posix", taking.pool(named), make, only_folders=True)
        if reading.unknown:
            return Reading((), (*taking.notes, *reading.notes), reading.unknown)
        taking.take("getfacl", reading)
        pool = taking.pool(named)
        assert pool is not None
        taking.tops[top] = pool
    if copied.smb:
        taking.smb(smb_server.parse(copied.smb, copied.main))
    if copied.exports:
        taking.nfs(copied.exports)
    return Reading(tuple(taking.edits), tuple(taking.notes))


def _named(copied: Copied) -> frozenset[str]:
    """Accounts and groups that own folders or stand in their lists, and those that the SMB server knows."""
    said = re.findall(r"^(?:# owner: |# group: |(?:default:)?(?:user|group):)([^:\n]+)", copied.listing, re.MULTILINE)
    return frozenset({*map(posix_text.unescape, said), *accounts.smb_accounts(copied.smb_accounts)})


def _listings(text: str) -> Iterator[tuple[str, str]]:
    """The topmost folders of a listing, each with what is listed below it, in the lines in which it stood."""
    top, begun, lines = "", 0, text.splitlines()
    for number, line in enumerate(lines):
        if not line.startswith("# file: "):
            continue
        path = "/" + posix_text.unescape(line.removeprefix("# file: ")).strip("/")
        if top and path != top and not path.startswith(f"{top.rstrip('/')}/"):
            yield top, "\n" * begun + "\n".join(lines[begun:number])
            top, begun = path, number
        top = top or path
    if top:
        yield top, "\n" * begun + "\n".join(lines[begun:])


class _Taking:
    """The plan as it is so far, and what made it so."""

    def __init__(self, plan: Plan):
        self.plan = plan
        self.edits: list[Edit] = []
        self.notes: list[Note] = []
        self.tops: dict[str, str] = {}  # path of a topmost folder -> its pool
        self.lists: dict[
            str, tuple[str, Mapping[str, Level]]
        ] = {}  # place -> the share that said who, and what it said

    def do(self, edits: Sequence[Edit]) -> None:
        self.plan, _ = apply(self.plan, edits)
        self.edits += edits

    def take(self, what: str, reading: Reading) -> None:
        self.do(reading.edits)
        for note in reading.notes:
            self.say(what, note.line, note.text)

    def say(self, file: str, line: int | None, text: str) -> None:
        self.notes.append(Note(None, f"{file}: {text}" if line is None else f"{file}, line {line}: {text}"))

    def shut(self, text: str) -> None:
        """Accounts that the SMB server has shut, or does not have."""
        known = {fold(name): accounts.is_open(said) for name, said in accounts.smb_accounts(text).items()}
        local = [user for user in self.plan.users.values() if user.origin == LOCAL]
        self.do([PutUser(replace(u, enabled=False)) for u in local if u.enabled and not known.get(fold(u.name), False)])
        for name in sorted(user.name for user in local if fold(user.name) not in known):
            self.say("SMB accounts", None, f"account {show(name)} is not known to the SMB server; imported as disabled")

    def pool(self, name: str) -> str | None:
        places = self.plan.places.values()
        return next((p.id for p in places if p.kind == "pool" and fold(p.name) == fold(name)), None)

    # --- shares -------------------------------------------------------------------------------------------------------

    def smb(self, found: Configuration) -> None:
        for remark in found.remarks:
            self.say(remark.file, remark.line, f"not understood: {remark.text}")
        for name, said in found.general.settings.items():
            if name in UNSAID:
                self.say(
                    said.file, said.line, f"[global] {name} changes who gets what in all shares, and is not understood"
                )
        for share in found.shares.values():
            self.share(found, share)

    def share(self, found: Configuration, share: Section) -> None:
        if share.name.casefold() in ("homes", "printers", "print$", "ipc$"):
            return self.say(share.file, share.line, f"[{share.name}] is not a share of a folder; not imported")
        if (trouble := share_name_trouble(share.name)) is not None:
            return self.say(share.file, share.line, f"[{share.name}] {trouble}; not imported")
        path = found.said(share, "path")
        if path is None:
            return self.say(share.file, share.line, f"[{share.name}] says no path; not imported")
        where = path.value.replace("%S", share.name).strip('"')
        if "%" in where:
            text = f"[{share.name}] has the path {show(path.value)}, another for everybody; not imported"
            return self.say(path.file, path.line, text)
        place = self.place(where)
        if place is None:
            return self.say(
                path.file, path.line, f"[{share.name}] offers {show(where)}, of which no list was given; not imported"
            )
        for name, said in share.settings.items():
            if name in UNSAID:
                self.say(
                    said.file,
                    said.line,
                    f"[{share.name}] {name} = {said.value} changes who gets what, and is not understood",
                )
            elif name not in DECIDING:
                self.say(
                    said.file, said.line, f"[{share.name}] {name} = {said.value} changes nobody's access; left out"
                )
        self.offer(found, share, place)
        return None

    def offer(self, found: Configuration, share: Section, place: str) -> None:
        lists = _Lists(
            valid=self.named(found, share, "valid users"),
            invalid=self.named(found, share, "invalid users"),
            reads=self.named(found, share, "read list"),
            writes=self.named(found, share, "write list"),
            admins=self.named(found, share, "admin users"),
            usual=Level.RO if found.yes(share, "read only", True) else Level.RW,
            available=found.yes(share, "available", True),
        )
        self.grant(share, place, lists)
        admins = lists.admins.whos
        if len(admins) > 1:
            self.say(
                share.file,
                share.line,
                f"[{share.name}] lets more than one name act as root; only {self.plan.named(admins[0])} is imported",
            )
        taken = {*self.plan.users, *self.plan.groups, *self.plan.places, *self.plan.shares}
        comment, objects = share.settings.get("comment"), found.said(share, "vfs objects")
        modules = (objects.value if objects is not None else "").replace(",", " ").split()
        same = next((s for s in self.plan.shares.values() if fold(s.name) == fold(share.name)), None)
        base = same or Share(id=fresh_id(f"share {share.name}", taken), name=share.name, place=place)
        new = replace(
            base,
            place=place,
            smb=True,
            guests=lists.guests() if found.yes(share, "guest ok", False) else Level.NA,
            hidden=not found.yes(share, "browseable", True),
            hide_unreadable=found.yes(share, "hide unreadable", False),
            versions="shadow_copy2" in modules,
            recycle="recycle" in modules,
            administrator=admins[0] if admins else None,
            note=comment.value if comment is not None else "",
        )
        self.do([PutShare(new)])

    def grant(self, share: Section, place: str, lists: "_Lists") -> None:
        """Grants on the place of a share that come out as its lists do: by the names that these have, or else by everybody's."""
        levels = {user: lists.level(token(self.plan, user)) for user in self.plan.users}
        if place in self.lists:
            first, there = self.lists[place]
            if there != levels:
                self.say(
                    share.file,
                    share.line,
                    f"[{share.name}] offers the same folder as [{first}] to others; what [{first}] says was imported for both",
                )
            return
        self.lists[place] = share.name, levels
        short = lists.short()
        grants = short if all(self.comes_to(short, user) == level for user, level in levels.items()) else levels
        carried = PutPlace(replace(self.plan.places[place], enforced_by="share"))
        gone = (who for who in self.plan.grants.get(place, {}) if who not in grants)
        edits = (
            *(SetGrant(place, who, None) for who in gone),
            *(SetGrant(place, w, level) for w, level in grants.items()),
        )
        self.do([carried, *edits])

    def comes_to(self, grants: Mapping[str, Level], user: str) -> Level:
        names = token(self.plan, user)
        parts = [TieredGrant(tier_of(self.plan, who), level) for who, level in grants.items() if who in names]
        return decide(self.plan.target, parts)[0]

    def named(self, found: Configuration, share: Section, name: str) -> "_Named":
        """The users and groups that a list of a share names; who of them is not known is noted."""
        said = found.said(share, name)
        if said is None or not said.value:
            return _Named(False, (), guest=False)
        whos, guest = [], False
        for one in smb_server.names(said.value.replace("%S", share.name)):
            plain = one.lstrip("@+&").rpartition("\\")[2]
            group = one[0] in "@+&"
            if not group and plain in GUEST_NAMES:
                guest = True
                continue
            who = self.who(plain, group)
            if who is None:
                self.say(
                    said.file,
                    said.line,
                    f"[{share.name}] {name} names {show(one)}, which is not {'a group' if group else 'an account'} that came in",
                )
            else:
                whos.append(who)
        return _Named(True, tuple(dict.fromkeys(whos)), guest)

    def who(self, name: str, group: bool) -> str | None:
        records: Collection[User | Group] = self.plan.groups.values() if group else self.plan.users.values()
        return next((record.id for record in records if fold(record.name) == fold(name)), None)

    def place(self, path: str) -> str | None:
        """The place of a folder by its path; made, where the folder just follows the one above and is no place yet."""
        path = "/" + path.strip("/")
        top = next((top for top in self.tops if path == top or path.startswith(f"{top.rstrip('/')}/")), None)
        if top is None:
            return None
        found = self.tops[top]
        for step in (step for step in path[len(top) :].split("/") if step):
            inside = self.plan.inside.get(found, ())
            there = next((p for p in inside if fold(self.plan.places[p].name) == fold(step)), None)
            if there is None:
                there = fresh_id(step, {*self.plan.users, *self.plan.groups, *self.plan.places})
                self.do([PutPlace(Place(id=there, name=step, kind="folder", parent=found))])
            found = there
        return found

    # --- exports ------------------------------------------------------------------------------------------------------

    def nfs(self, text: str) -> None:
        for number, line in _joined(text):
            matched = re.fullmatch(r'("(?:[^"])*"|\S+)\s*(.*)', line)
            if matched is None:
                self.say("exports", number, f"not understood: {show(line)}")
                continue
            path = re.sub(r"\\(\d{3})", lambda octal: chr(int(octal[1], 8)), matched[1].strip('"'))
            place = self.place(path)
            if place is None:
                self.say("exports", number, f"{show(path)} is exported, of which no list was given; not imported")
                continue
            self.export(number, path, place, matched[2].split())

    def export(self, number: int, path: str, place: str, clients: Sequence[str]) -> None:
        rules: list[HostRule] = []
        squash: set[Squash] = set()
        default: list[str] = []
        for client in clients:
            if client.startswith("-"):
                default = client[1:].split(",")
                continue
            matched = re.fullmatch(r"([^()]*)(?:\(([^()]*)\))?", client)
            if matched is None or not matched[1]:
                self.say(
                    "exports", number, f"not understood: {show(client)} for {path}; a blank before ( lets every host in"
                )
                continue
            options = [*default, *(matched[2] or "").split(",")]
            flavours = [o for o in options if o.startswith("sec=")]
            level = Level.RW if "rw" in options and "ro" not in options else Level.RO
            if flavours and "sys" not in flavours[-1]:
                level = Level.NA
            try:
                hosts(matched[1])
            except ValueError as error:
                self.say("exports", number, f"{path}: {error}")
                continue
            rules.append(HostRule(hosts=matched[1], level=level))
            squash.add("all" if "all_squash" in options else "none" if "no_root_squash" in options else "root")
            for option in options:
                if option not in KNOWN_OPTIONS and not option.startswith(("sec=", "anonuid=65534", "anongid=65534")):
                    self.say("exports", number, f"{path}: the option {show(option)} is not understood")
        if not rules:
            return
        if len(squash) > 1:
            self.say("exports", number, f"{path} squashes differently for some hosts; the widest is imported for all")
        kind: Squash = "none" if "none" in squash else "root" if "root" in squash else "all"
        shared = next((s for s in self.plan.shares.values() if s.place == place), None)
        taken = {*self.plan.users, *self.plan.groups, *self.plan.places, *self.plan.shares}
        name = path.rpartition("/")[2] or "root"
        if shared is None:
            free = name if all(fold(s.name) != fold(name) for s in self.plan.shares.values()) else f"{name} export"
            shared = Share(id=fresh_id(f"export {name}", taken), name=free, place=place, smb=False)
        self.do([PutShare(replace(shared, nfs=True, hosts=tuple(rules), squash=kind))])


KNOWN_OPTIONS = {
    "", "rw", "ro", "sync", "async", "no_subtree_check", "subtree_check", "root_squash", "no_root_squash", "all_squash", "no_all_squash", "secure",
    "insecure", "wdelay", "no_wdelay", "hide", "nohide", "crossmnt",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Named:
    """Whom a list names. said: whether there is one. guest: whether the guest's account is among them."""

    said: bool
    whos: tuple[str, ...]
    guest: bool

    def names(self, token: Collection[str]) -> bool:
        return any(who in token for who in self.whos)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Lists:
    """What a share says of who gets in. usual: what whoever gets in may do, unless a list says otherwise."""

    valid: _Named
    invalid: _Named
    reads: _Named
    writes: _Named
    admins: _Named
    usual: Level
    available: bool

    def level(self, token: Collection[str]) -> Level:
        """What somebody with an account gets: refused first, then let in, then who writes, then who only reads (smb.conf(5))."""
        if not self.available or self.invalid.names(token) or (self.valid.said and not self.valid.names(token)):
            return Level.NA
        if self.writes.names(token):
            return Level.RW
        return Level.RO if self.reads.names(token) else self.usual

    def guests(self) -> Level:
        if not self.available or self.invalid.guest or (self.valid.said and not self.valid.guest):
            return Level.NA
        return Level.RW if self.writes.guest else Level.RO if self.reads.guest else self.usual

    def short(self) -> dict[str, Level]:
        """Grants by the names that the lists have; where names overlap they may come to something else."""
        grants = dict.fromkeys(self.valid.whos if self.valid.said else (EVERYONE,), self.usual)
        for named, level in ((self.reads, Level.RO), (self.writes, Level.RW), (self.invalid, Level.NA)):
            grants |= dict.fromkeys(named.whos, level)
        return grants if self.available else {}


def _joined(text: str) -> Iterator[tuple[int, str]]:
    """Lines of exports(5) that say something, without comments, those that end in a backslash joined with the next."""
    begun, start = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        start = start if begun else number
        plain = line if '"' in line.partition("#")[0] and line.count('"') % 2 else line.partition("#")[0]
        if plain.rstrip().endswith("\\"):
            begun += plain.rstrip()[:-1] + " "
            continue
        whole, begun = (begun + plain).strip(), ""
        if whole:
            yield start, whole


def sorted_out(files: Mapping[str, str]) -> Copied:
    """Files copied from a server, by what they are called: passwd, group, exports, what getfacl(1) and pdbedit(8) said, and the SMB server's
    configuration, which is the rest. Raises FormatError for two of one kind."""
    smb: dict[str, str] = {}
    found: dict[str, str] = {}
    for path, text in files.items():
        name = path.rpartition("/")[2].casefold()
        kind = next((kind for kind, pattern in _CALLED.items() if re.fullmatch(pattern, name)), None)
        if kind is None:
            smb[path] = text
        elif kind in found and kind not in ("exports", "listing"):
            raise FormatError(f"there are two files of the kind {kind}; the second is {show(path)}")
        else:
            found[kind] = found.get(kind, "") + text + ("" if text.endswith("\n") else "\n")
    main = next((path for path in smb if path.rpartition("/")[2] == smb_server.MAIN), smb_server.MAIN)
    return Copied(**found, smb=smb, main=main)


_CALLED = {
    "passwd": r"passwd(\.txt)?", "group": r"group(\.txt)?", "exports": r"exports(\.txt)?|.*\.exports", "listing": r".*(getfacl|facl|acls?|lists?).*",
    "smb_accounts": r".*(pdbedit|smb.?accounts).*",
}  # fmt: skip
