"""A Linux file server taken in whole: accounts, folders with owners and lists, shares over SMB, exports over NFS.

From the texts of its files, whether they were copied from it or read there. What was not understood is noted, and whether somebody may really
get more or less by it; the rest comes in.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from itertools import islice

from yardgate.core.edits.records import PutUser
from yardgate.core.host.state import ADMIN
from yardgate.core.model.names import free_name
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import LOCAL, Plan
from yardgate.formats import accounts, listing, nfs_server, posix_text, smb_server, smb_shares
from yardgate.formats.listed import paths
from yardgate.formats.reading import FormatError, Make, Reading, gathered, some_of
from yardgate.formats.taking import Taking, plain_path

EPOCH = date(1970, 1, 1)
MOST_TOPS = 500
SHUT = EPOCH + timedelta(days=1)  # the day of expiry (shadow(5)) of an account that is shut


@dataclass(frozen=True, kw_only=True)
class Copied:
    """The texts of a server. smb: files of the SMB server's configuration, by path. listing: what getfacl(1) says of folders, each path from
    the root. smb_accounts: what `pdbedit -L -v` says; None: not asked. expiry: name and day of expiry (shadow(5)) of accounts, a line each.
    descriptors: what `sharesec --view-all` says."""

    passwd: str = ""
    group: str = ""
    smb: Mapping[str, str] = field(default_factory=dict)
    main: str = smb_server.MAIN
    exports: str = ""
    listing: str = ""
    smb_accounts: str | None = None
    expiry: str = ""
    descriptors: str = ""


def read(
    plan: Plan,
    copied: Copied,
    make: Make | None = None,
    lowest: int = accounts.LOWEST,
    highest: int = accounts.HIGHEST,
) -> Reading:
    """The edits that bring a server into a plan: accounts with numbers from lowest to highest, and those that its folders and its SMB server
    name, whatever their numbers. Raises FormatError, with line and column, where one of the texts is none of its kind."""
    taking = Taking(plan)
    configuration = smb_server.parse(copied.smb, copied.main) if copied.smb else None
    if copied.passwd:
        lists, acting, groups = smb_shares.named(configuration)
        known = accounts.smb_accounts(copied.smb_accounts) if copied.smb_accounts is not None else None
        whole = accounts.Whole(
            named=(_in_lists(copied, "owner|user") | lists | acting | (known or {}).keys()) - {ADMIN},
            groups=(_in_lists(copied, "group") | groups) - {ADMIN},
            signing=frozenset(known) if known is not None else None,
            listed=lists,
            plain=smb_shares.default_domain(configuration),
        )
        taking.take(
            "passwd, group", accounts.read(taking.plan, copied.passwd, copied.group, lowest, highest, whole=whole)
        )
        _shut(taking, copied, known)
    tops = list(islice(_listings(copied.listing), MOST_TOPS + 1))
    if len(tops) > MOST_TOPS:
        raise FormatError(
            f"the lists are of more than {MOST_TOPS} folders of which none is in another; each would be a pool"
        )
    for top, after, text in tops:
        pool = _pool(taking, top)
        named = taking.plan.places[pool].name if pool is not None else _free_pool(taking, top)
        try:
            reading = listing.read(taking.plan, text, "posix", pool, make, called=named, only_folders=True)
        except FormatError as error:
            raise FormatError(error.plain, (error.line or 1) + after, error.column) from None
        taking.take("getfacl", _later(reading, after))
        pool = pool or _pool_called(taking.plan, named)
        assert pool is not None
        taking.tops[top] = pool
        taking.listed |= {"/" + "/".join(path) for path in paths(text)}
    if configuration is not None:
        smb_shares.take(taking, configuration, copied.descriptors)
    if copied.exports:
        nfs_server.take(taking, "exports", copied.exports)
    return Reading(tuple(taking.edits), gathered(taking.notes), tuple(taking.unknown))


def _in_lists(copied: Copied, which: str) -> frozenset[str]:
    """Accounts, or groups, that own folders or stand in their lists."""
    said = re.findall(rf"^(?:# (?:{which}): |(?:default:)?(?:{which}):)([^:\r\n]+)", copied.listing, re.MULTILINE)
    return frozenset(map(posix_text.unescape, said))


def _later(reading: Reading, after: int) -> Reading:
    """What was read of a part of a text, with the lines of the whole."""
    notes = [replace(note, line=note.line + after if note.line is not None else None) for note in reading.notes]
    unknown = [replace(name, line=name.line + after) for name in reading.unknown]
    return replace(reading, notes=tuple(notes), unknown=tuple(unknown))


def _listings(text: str) -> Iterator[tuple[str, int, str]]:
    """The topmost folders of a listing, each with what is listed below it, and how many lines stand before that."""
    top, begun, lines = "", 0, text.split("\n")
    for number, line in enumerate(lines):
        if not line.startswith("# file: "):
            continue
        path = plain_path(posix_text.unescape(line.removeprefix("# file: ").removesuffix("\r")))
        if top and path != top and not path.startswith(f"{top.rstrip('/')}/"):
            yield top, begun, "\n".join(lines[begun:number])
            top, begun = path, number
        top = top or path
    if top:
        yield top, begun, "\n".join(lines[begun:])


def _shut(taking: Taking, copied: Copied, known: Mapping[str, Mapping[str, str]] | None) -> None:
    """Accounts of the host that its SMB server has shut, or that have expired."""
    if known is None and not copied.expiry:
        return
    here = {line.partition(":")[0] for line in copied.passwd.splitlines()}
    days = {
        name: EPOCH + timedelta(int(day))
        for name, _, day in (line.partition(":") for line in copied.expiry.splitlines())
        if re.fullmatch("[0-9]{1,6}", day)
    }
    is_open = {fold(name): accounts.is_open(said) for name, said in (known or {}).items()}
    local = [user for user in taking.plan.users.values() if user.origin == LOCAL and user.name in here]
    for user in [user for user in local if not user.of_host]:
        day = days.get(user.name)
        enabled = is_open.get(fold(user.name), True) and (day is None or day > SHUT)
        new = replace(
            user, enabled=enabled, expires=day if copied.expiry and enabled else user.expires if enabled else None
        )
        if new != user:
            taking.do([PutUser(new)])
    strangers = sorted(
        show(user.name) for user in local if user.of_host and known is not None and user.kind == "person"
    )
    if strangers:
        taking.say("SMB accounts", None, f"not known to the SMB server, so the server's own here: {some_of(strangers)}")


def _pool_called(plan: Plan, name: str) -> str | None:
    return next((p.id for p in plan.places.values() if p.kind == "pool" and fold(p.name) == fold(name)), None)


def _pool(taking: Taking, top: str) -> str | None:
    """The pool of the plan that a topmost folder is: one of its name that is no other topmost folder of this server."""
    pool = _pool_called(taking.plan, top.rpartition("/")[2] or "pool")
    return pool if pool not in taking.tops.values() else None


def _free_pool(taking: Taking, top: str) -> str:
    plain = top.rpartition("/")[2] or "pool"
    name = free_name(plain, {fold(place.name) for place in taking.plan.places.values() if place.kind == "pool"})
    if name != plain:
        taking.say("getfacl", None, f"{top} came in as the pool {show(name)}, since another is called {show(plain)}")
    return name


def sorted_out(files: Mapping[str, str]) -> Copied:
    """Files copied from a server, by what they are called and how they begin: passwd, group, exports, what getfacl(1), pdbedit(8) and
    sharesec(1) said, and the SMB server's configuration, which is the rest. Raises FormatError for two of one kind."""
    smb: dict[str, str] = {}
    found: dict[str, str] = {}
    for path, text in files.items():
        kind = _kind(path.rpartition("/")[2].casefold(), text)
        if kind is None:
            smb[path] = text
        elif kind in found and kind not in ("exports", "listing"):
            raise FormatError(f"there are two files of the kind {kind}; the second is {show(path)}")
        else:
            found[kind] = found.get(kind, "") + text + ("" if text.endswith("\n") else "\n")
    main = next((path for path in smb if path.rpartition("/")[2] == smb_server.MAIN), smb_server.MAIN)
    if main not in smb and len(smb) == 1:
        main = next(iter(smb))
    return Copied(**found, smb=smb, main=main)


def _kind(name: str, text: str) -> str | None:
    """What a file is; None: of the SMB server's configuration."""
    for kind, pattern in _BEGINS.items():
        if re.search(pattern, text[:100_000], re.MULTILINE):
            return kind
    if name.endswith(".conf"):
        return None
    return next((kind for kind, pattern in _CALLED.items() if re.fullmatch(pattern, name)), None)


_BEGINS = {"listing": r"^# file: ", "smb_accounts": r"^Unix username:", "descriptors": r"^ACL:.+:(ALLOWED|DENIED)/"}
_CALLED = {
    "passwd": r"passwd(\.txt)?", "group": r"group(\.txt)?", "exports": r"exports(\.txt)?|.*\.exports", "listing": r".*(getfacl|facl|acls?|lists?).*",
    "smb_accounts": r".*(pdbedit|smb.?accounts).*", "descriptors": r".*sharesec.*",
}  # fmt: skip
