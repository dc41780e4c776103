"""Shares of an SMB server as shares of a plan: who gets in, as whom, and what is otherwise than a plan can say.

A name in a list is an account in any case; with @ or + before it a group, as it is written; with & a group of NIS, which nobody here is in.
Lists ask who somebody is, also where all act as one account inside (`force user`, `guest only`).
"""

import re
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from yardgate.core.access.combining import TieredGrant, decide
from yardgate.core.access.membership import token
from yardgate.core.access.storage import tier_of
from yardgate.core.acl.rights import LEVELS, Level
from yardgate.core.edits.records import PutPlace, PutShare, SetGrant, SetTarget
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import EVERYONE, GUEST_ACCOUNT, LOCAL, Group, Plan, User
from yardgate.core.model.share import Share, share_name_trouble
from yardgate.formats import smb_server
from yardgate.formats.everybody import Everybody, Levels
from yardgate.formats.host_names import known_as
from yardgate.formats.reading import FormatError, Toward
from yardgate.formats.smb_server import Configuration, Section
from yardgate.formats.taking import Taking

NO_FOLDER = {
    "homes": "offers everybody their own home",
    "printers": "offers printers",
    "print$": "offers drivers of printers",
    "ipc$": "is no folder",
}
LISTS = ("valid users", "invalid users", "read list", "write list", "admin users")
WIDER: Mapping[str, Toward] = {
    "valid users": "more", "write list": "more", "admin users": "more", "invalid users": "less", "read list": "less",
}  # fmt: skip
"""What somebody may really get of whom a list names and the plan does not know."""
ANYBODY = frozenset({"%U", "%u", "S-1-5-11", "S-1-1-0", "@%G", "@%g", "+%G", "+%g"})
"""What whoever signs in is called (smb.conf(5), substitutions; MS-DTYP 2.4.2.4)."""
OF_A_DOMAIN = frozenset({"security", "server role", "winbind use default domain"})
"""Settings of [global] of which nothing needs to be said where the plan has the domain's accounts."""
MOST_PAIRS, MOST_LISTED, MOST_LINES = 12_000_000, 1_000_000, 300_000
"""Shares by people, characters of all their lists, and lines of grants that these come to: far beyond an office, and worked out in seconds."""
USUAL_MASK, GROUP_WRITES = 0o744, 0o020


def named(found: Configuration | None) -> tuple[frozenset[str], frozenset[str], frozenset[str]]:
    """The accounts that lists of shares name, those as whom people act, and the groups that either names."""
    lists, acting, groups = set[str](), set[str](), set[str]()
    for share in found.shares.values() if found is not None else ():
        assert found is not None
        for setting in LISTS:
            said = found.said(share, setting)
            for one in smb_server.names(said.value) if said is not None else ():
                plain = one.lstrip("@+&").rpartition("\\")[2]
                (groups if one[0] in "@+&" else lists).add(plain)
        for setting, kept in (("force user", acting), ("force group", groups)):
            if (said := found.said(share, setting)) is not None:
                kept.add(said.value.strip('"').lstrip("@+&").rpartition("\\")[2])
        if found.yes(share, "guest ok", False) or found.yes(share, "guest only", False):
            acting.add(GUEST_ACCOUNT)
    return frozenset(lists - {GUEST_ACCOUNT}), frozenset(acting), frozenset(groups)


def take(taking: Taking, found: Configuration, descriptors: str = "") -> None:
    """The shares of a server as shares of a plan. descriptors: what `sharesec --view-all` says. What a plan cannot say is noted."""
    for remark in found.remarks:
        taking.say(remark.file, remark.line, f"not understood: {remark.text}", "either")
    joined = _joined(taking.plan, found)
    for said, name, effect in smb_server.effects(found):
        if joined and name in OF_A_DOMAIN:
            continue
        taking.say(said.file, said.line, f"[global] {name} = {said.value}: {effect.words}", effect.toward)
    limits = _limits(descriptors)
    placed = [(section, place) for section in found.shares.values() if (place := _place(taking, found, section))]
    plan = taking.plan
    if placed and plan.target.share_groups and not plan.shares:  # the server's stay as they are
        taking.do([SetTarget(replace(plan.target, share_groups=False))])
    people, accounts = Everybody(plan), _Accounts(plan, found)
    lists = (found.said(section, name) for section, _ in placed for name in LISTS)
    listed = sum(len(one.value) for one in lists if one is not None)
    if len(placed) * len(people.people) > MOST_PAIRS or listed > MOST_LISTED:
        raise FormatError(
            f"{len(placed):,} shares for {len(people.people):,} people, whose lists have {listed:,} characters, are too many at a time; take in fewer shares"
        )
    same = {fold(share.name): share for share in plan.shares.values()}
    granted = 0
    for section, place in placed:
        limit = limits.get(section.name.casefold(), ())
        share = _Share(taking, found, accounts, people, section, place, same.get(fold(section.name)), limit)
        granted += len(share.take())
        if granted > MOST_LINES:
            raise FormatError(f"the shares come to more than {MOST_LINES:,} lines of who gets in; take in fewer shares")


def default_domain(found: Configuration | None) -> bool:
    """Whether the server takes plain names for those of its domain, too (smb.conf(5), winbind use default domain)."""
    said = found.general.settings.get("winbind use default domain") if found is not None else None
    return said is not None and said.value.casefold() in smb_server.YES


def _joined(plan: Plan, found: Configuration) -> bool:
    """Whether the domain that the server belongs to is one of the plan's directories."""
    said = found.general.settings
    names = {fold(said[name].value) for name in ("workgroup", "realm") if name in said}
    return any(names & {fold(one.name), fold(one.domain)} for one in plan.directories.values())


def _place(taking: Taking, found: Configuration, share: Section) -> str | None:
    """The place that a share offers; none, with a note, where it does not come in."""

    def left(text: str, toward: Toward | None, said: smb_server.Setting | None = None) -> None:
        file, line = (share.file, share.line) if said is None else (said.file, said.line)
        taking.say(file, line, f"[{share.name}] {text}; not imported", toward)

    path = found.said(share, "path")
    where = path.value.replace("%S", share.name).strip('"') if path is not None else ""
    if (what := NO_FOLDER.get(share.name.casefold())) is not None:
        left(what, "more" if share.name.casefold() == "homes" else None)
    elif found.yes(share, "printable", False):
        left("is a printer's, where files can be put but not listed", "more")
    elif (trouble := share_name_trouble(share.name)) is not None:
        left(trouble, "more")
    elif not where:
        left("says no path, so nobody gets in", None)
    elif "%" in where:
        left(f"has the path {show(where)}, another for everybody", "more", path)
    elif (place := taking.place(where)) is None:
        left(f"offers {show(where)}, of which no list was given", "more", path)
    else:
        return place
    return None


@dataclass(frozen=True)
class _Named:
    """Whom a list names. said: whether there is one. guest: whether the guest's account is among them."""

    said: bool
    whos: tuple[str, ...]
    guest: bool

    @cached_property
    def _all(self) -> frozenset[str]:
        return frozenset(self.whos)

    def names(self, token: Collection[str]) -> bool:
        return not self._all.isdisjoint(token)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Lists:
    """What a share says of who gets in. usual: what whoever gets in may do, unless a list says otherwise. limit: what the server's own
    descriptor of the share lets through at most."""

    valid: _Named
    invalid: _Named
    reads: _Named
    writes: _Named
    admins: _Named
    usual: Level
    available: bool
    limit: "Limit"

    @property
    def whos(self) -> frozenset[str]:
        return frozenset(
            who for one in (self.valid, self.invalid, self.reads, self.writes, self.admins) for who in one.whos
        )

    def level(self, token: Collection[str]) -> Level:
        """What somebody with an account gets: refused first, then let in, then who writes, then who only reads (smb.conf(5))."""
        if not self.available or self.invalid.names(token) or (self.valid.said and not self.valid.names(token)):
            return Level.NA
        most = self.limit(token)
        if self.writes.names(token):
            return min(Level.RW, most)
        return min(Level.RO if self.reads.names(token) else self.usual, most)

    def guests(self) -> Level:
        if not self.available or self.invalid.guest or (self.valid.said and not self.valid.guest):
            return Level.NA
        level = Level.RW if self.writes.guest else Level.RO if self.reads.guest else self.usual
        return min(level, self.limit({EVERYONE}))

    def short(self) -> dict[str, Level]:
        """Grants by the names that the lists have; where names overlap they may come to something else."""
        grants = dict.fromkeys(self.valid.whos if self.valid.said else (EVERYONE,), self.usual)
        for named, level in ((self.reads, Level.RO), (self.writes, Level.RW), (self.invalid, Level.NA)):
            grants |= dict.fromkeys(named.whos, level)
        return grants if self.available else {}


Limit = Callable[[Collection[str]], Level]


class _Accounts:
    """Whom the server finds by a name or a SID. It knows a group by just how it is written."""

    def __init__(self, plan: Plan, found: Configuration) -> None:
        called = found.general.settings.get("netbios name")
        self.user_domains = {"", "unix user", called.value.casefold() if called is not None else ""}
        self.own: dict[tuple[bool, str], str] = {}
        self.theirs: dict[tuple[bool, str], str] = {}
        self.numbered: dict[tuple[str, int | None], str] = {}
        records: tuple[User | Group, ...] = (*plan.users.values(), *plan.groups.values())
        for one in records:
            group = isinstance(one, Group)
            self.numbered.setdefault(("2", one.gid) if isinstance(one, Group) else ("1", one.uid), one.id)
            if one.origin == LOCAL:
                self.own.setdefault((group, one.name if group else fold(one.name)), one.id)
            else:
                for name in known_as(plan, one, plain=default_domain(found)):
                    self.theirs.setdefault((group, name), one.id)

    def of(self, name: str, *, group: bool) -> str | None:
        if matched := re.fullmatch(r"S-1-22-([12])-(\d+)", name):
            return self.numbered.get((matched[1], int(matched[2])))
        before, _, plain = name.rpartition("\\")
        theirs = self.theirs.get((group, fold(name)))
        where = {"", "unix group"} if group else self.user_domains
        if before.casefold() not in where or (group and theirs is not None):  # a domain's group comes before the host's
            return theirs
        return self.own.get((group, plain if group else fold(plain)), theirs)


class _Share:
    """One share on its way into a plan."""

    def __init__(
        self,
        taking: Taking,
        found: Configuration,
        accounts: _Accounts,
        people: Everybody,
        section: Section,
        place: str,
        same: Share | None,
        limit: "tuple[_Limiting, ...]",
    ) -> None:
        """same: the share that the plan has by that name."""
        self.taking, self.found, self.accounts, self.people = taking, found, accounts, people
        self.plan, self.section, self.place, self.same = people.plan, section, place, same
        self.id = same.id if same is not None else taking.fresh(f"share {section.name}")
        self.limiting = limit

    def say(self, text: str, toward: Toward | None, setting: str = "") -> None:
        said = self.found.said(self.section, setting) if setting else None
        file, line = (self.section.file, self.section.line) if said is None else (said.file, said.line)
        self.taking.say(file, line, f"[{self.section.name}] {text}", toward, [self.id])

    def yes(self, name: str, otherwise: bool = False) -> bool:
        return self.found.yes(self.section, name, otherwise)

    def take(self) -> Collection[str]:
        """Puts it into the plan. Returns whom it grants something."""
        section, taking = self.section, self.taking
        for said, where, name, effect in smb_server.effects_in(section):
            what = f"[{where}] {name} = {said.value}"
            words = f"{what} {effect.words}" if effect.words.startswith("is ") else f"{what}: {effect.words}"
            taking.say(said.file, said.line, words, effect.toward, [self.id])
        modules = self._modules()
        only_guest = self.yes("guest only")
        lists = _Lists(
            valid=self._named("valid users"),
            invalid=self._named("invalid users"),
            reads=self._named("read list"),
            writes=self._named("write list"),
            admins=self._named("admin users"),
            usual=Level.RO if self.yes("read only", True) else Level.RW,
            available=self.yes("available", True),
            limit=self._limit,
        )
        acts_as, acts_as_group = self._acting(only_guest)
        levels, grants = self._gets_in(lists)
        twin, own = self._grant(levels, grants)
        admins = lists.admins.whos
        if len(admins) > 1:
            others = ", ".join(map(self.plan.named, admins[1:]))
            self.say(f"lets more than one name act as root; {others} came in as others do", "more", "admin users")
        comment = section.settings.get("comment")
        base = self.same or Share(id=self.id, name=section.name, place=self.place, of_host=True)
        new = replace(
            base,
            place=self.place,
            smb=True,
            guests=lists.guests() if self.yes("guest ok") or only_guest else Level.NA,
            read_only=twin or smb_server.READ_ONLY_MODULE in modules,
            grants=own,
            hidden=not self.yes("browseable", True),
            hide_unreadable=self.yes("hide unreadable"),
            versions="shadow_copy2" in modules,
            recycle="recycle" in modules,
            administrator=admins[0] if admins else None,
            acts_as=acts_as,
            acts_as_group=acts_as_group,
            note=comment.value if comment is not None else "",
        )
        taking.do([PutShare(new)])
        self._new_files(new, levels)
        return grants

    def _modules(self) -> list[str]:
        said = self.found.said(self.section, "vfs objects")
        modules = [one.partition(":")[0] for one in smb_server.names(said.value)] if said is not None else []
        for module in modules:
            if module in smb_server.LISTS_OF_ITS_OWN:
                self.say(f"keeps ordered lists ({module}), of which nothing was read", "either", "vfs objects")
            elif module not in smb_server.MODULES:
                self.say(f"has the module {show(module)}, which is not understood", "either", "vfs objects")
        return modules

    def _acting(self, only_guest: bool) -> tuple[str | None, str | None]:
        """As whom all act inside, and in which group besides."""
        plan = self.plan
        user = self.found.said(self.section, "force user")
        group = self.found.said(self.section, "force group")
        acts_as = plan.guest_account if only_guest else None
        if only_guest and acts_as is None:
            self.say("lets all act as the guest, whom the list of accounts does not have", "either", "guest only")
        if user is not None and user.value:
            acts_as = self._account(user.value.strip('"'), group=False)
            if acts_as is None:
                self.say(f"has all act as {show(user.value)}, who did not come in", "either", "force user")
        if group is None or not group.value:
            return acts_as, None
        if group.value.strip('"').startswith("+"):
            self._own_group(group.value.strip('"').lstrip("+"))
            return acts_as, None
        acts_as_group = self._account(group.value.strip('"').lstrip("@"), group=True)
        if acts_as_group is None:
            self.say(f"has all act in the group {show(group.value)}, which did not come in", "either", "force group")
        return acts_as, acts_as_group

    def _own_group(self, name: str) -> None:
        """A group that all are in who are its members anyway: it only names what they make; but it takes the place of a primary group."""
        plan = self.plan
        forced = self._account(name, group=True)
        whose = [u for u in plan.users.values() if u.origin != LOCAL and forced not in (None, u.primary_group)]
        if any(forced in token(plan, user.id) for user in whose):
            words = f"members of {show(name)} who are the domain's do not count as their primary group in it"
            self.say(words, "less", "force group")

    # --- who gets in --------------------------------------------------------------------------------------------------

    def _named(self, setting: str) -> _Named:
        """The users and groups that a list of the share names; who of them is not known is noted."""
        said = self.found.said(self.section, setting)
        if said is None or not said.value:
            return _Named(False, (), guest=False)
        whos, guest = [], False
        for one in smb_server.names(said.value.replace("%S", self.section.name)):
            marks = one[: len(one) - len(one.lstrip("@+&"))]
            name = one.removeprefix(marks)
            if one in ANYBODY:
                whos.append(EVERYONE)
                guest = guest or one == "S-1-1-0"
            elif marks == "&":
                self.say(f"{setting} names {show(one)}, a group of NIS: nobody is in it", None, setting)
            elif not marks and fold(name.rpartition("\\")[2]) == GUEST_ACCOUNT:
                guest = True
                whos += [plan_id for plan_id in [self._account(name, group=False)] if plan_id is not None]
            elif (who := self._account(name, group=bool(marks))) is not None:
                whos.append(who)
            else:
                what = "a group" if marks else "an account"
                self.say(f"{setting} names {show(one)}, which is not {what} that came in", WIDER[setting], setting)
        return _Named(True, tuple(dict.fromkeys(whos)), guest)

    def _account(self, name: str, *, group: bool) -> str | None:
        return self.accounts.of(name, group=group)

    def _limit(self, token: Collection[str]) -> Level:
        """What the descriptor of the share lets through: of each right the first entry that names somebody counts (MS-DTYP 2.5.3.2)."""
        if not self.limiting:
            return Level.RW
        allowed, settled = 0, 0
        for one in self.limiting:
            who = EVERYONE if one.who in ("S-1-1-0", "S-1-5-11") else self._account(one.who, group=False)
            who = who or self._account(one.who, group=True)
            if who in token:
                fresh = one.mask & ~settled
                settled |= fresh
                allowed |= fresh if one.allows else 0
        return Level.RW if allowed & 0x2 else Level.RO if allowed & 0x1 else Level.NA

    def _gets_in(self, lists: _Lists) -> tuple[Levels, Mapping[str, Level]]:
        """What everybody gets by the lists, and grants that come to it."""
        limited = {self._account(one.who, group=group) for one in self.limiting for group in (False, True)}
        levels = self.people.levels(frozenset(lists.whos.union(who for who in limited if who)), lists.level)
        return levels, self._grants(lists, levels)

    def _grant(self, levels: Levels, grants: Mapping[str, Level]) -> tuple[bool, Mapping[str, Level] | None]:
        """Grants on the share's place; where another share has said these, whether this is the same for reading alone, or else a list of its own."""
        there = self.taking.lists.setdefault(self.place, levels)
        if there is not levels:
            same = bool((levels == there).all())
            twin = not same and bool((levels == np.minimum(there, Level.RO.code)).all())
            return twin, None if twin or same else grants
        carried = PutPlace(replace(self.plan.places[self.place], enforced_by="share"))
        gone = (who for who in self.plan.grants.get(self.place, {}) if who not in grants)
        set_to = (SetGrant(self.place, who, level) for who, level in grants.items())
        self.taking.do([carried, *(SetGrant(self.place, who, None) for who in gone), *set_to])
        return False, None

    def _grants(self, lists: _Lists, levels: Levels) -> Mapping[str, Level]:
        """The grants by names of the lists, a group's as somebody has it who is in it alone, with exceptions for people for whom these would
        come to something else; or by people alone."""
        users, groups, people = self.plan.users, self.plan.groups, self.people
        said = lists.short()
        refused = {who for who, level in said.items() if level == Level.NA}
        alone = {
            who: lists.level(token(self.plan, who)) if who in groups else level
            for who, level in said.items()
            if who not in users or not users[who].of_host
        }
        short = {who: level for who, level in alone.items() if level > Level.NA or who in refused}
        come = people.levels(frozenset(short), self._coming_to(short))
        wrong = np.flatnonzero(come != levels)
        if not len(wrong):
            return short
        both = {**short, **people.by_name(levels, wrong)}
        _, kinds = people.alike(frozenset(short))
        _, each = np.unique(kinds[wrong] * len(LEVELS) + levels[wrong], return_index=True)
        comes_to = self._coming_to(both)
        if 2 * len(wrong) <= len(levels) and all(
            comes_to(token(self.plan, people.people[at])).code == levels[at] for at in wrong[each]
        ):
            return both
        return people.by_name(levels)

    def _coming_to(self, grants: Mapping[str, Level]) -> Callable[[Collection[str]], Level]:
        """What grants add up to for somebody who counts as some names."""
        in_order = {who: at for at, who in enumerate(grants)}

        def of(names: Collection[str]) -> Level:
            there = sorted((who for who in names if who in in_order), key=in_order.__getitem__)
            return decide(self.plan.target, [TieredGrant(tier_of(self.plan, who), grants[who]) for who in there])[0]

        return of

    # --- what is made there -------------------------------------------------------------------------------------------

    def _new_files(self, share: Share, levels: Levels) -> None:
        """Whether those who write can go on with what another of them made; noted where they cannot."""
        writers = int(((levels == Level.RW.code) & self.people.enabled).sum())
        if share.read_only or share.acts_as is not None or writers < 2 or self.yes("inherit permissions"):
            return
        mask, force = self._octal("create mask", USUAL_MASK), self._octal("force create mode", 0)
        if not (mask | force) & GROUP_WRITES and not self.yes("inherit acls"):
            self.say(f"lets others only read what somebody makes there (create mask {mask:04o})", "less", "create mask")

    def _octal(self, setting: str, otherwise: int) -> int:
        said = self.found.said(self.section, setting)
        return int(said.value, 8) if said is not None and re.fullmatch("[0-7]{1,5}", said.value) else otherwise


# --- the descriptors of shares ----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Limiting:
    """One entry of a share's descriptor. who: a SID or a name."""

    who: str
    allows: bool
    mask: int


_MASKS = {"FULL": 0x1F01FF, "CHANGE": 0x1301BF, "READ": 0x1200A9}


def _limits(text: str) -> dict[str, tuple[_Limiting, ...]]:
    """What `sharesec --view-all` says, by the shares' names in one case; descriptors that let everybody do everything left out."""
    found: dict[str, tuple[_Limiting, ...]] = {}
    for name, entries in _sections(text):
        open_to_all = entries[:1] == (_Limiting("S-1-1-0", allows=True, mask=_MASKS["FULL"]),)
        if not open_to_all:
            found[name.casefold()] = entries
    return found


def _sections(text: str) -> Iterator[tuple[str, tuple[_Limiting, ...]]]:
    name, entries = "", list[_Limiting]()
    for line in (*text.splitlines(), "[]"):
        line = line.strip()
        if line.startswith("[") and line.endswith("]"):
            if name:
                yield name, tuple(entries)
            name, entries = line[1:-1], []
        elif matched := re.fullmatch(r"ACL:(.+):(ALLOWED|DENIED)/(\w+)/(\w+)", line):
            mask = _MASKS.get(matched[4]) or (int(matched[4], 16) if re.fullmatch("0x[0-9a-fA-F]+", matched[4]) else 0)
            who = {"Everyone": "S-1-1-0", "\\Everyone": "S-1-1-0"}.get(matched[1], matched[1])
            entries.append(_Limiting(who, matched[2] == "ALLOWED", mask))
