"""Shares as an SMB server's configuration has them (smb.conf(5)): one section a share, with its lists (see `share_lists`).

A guest counts as the guest account.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import host_names, offers
from yardgate.core.host.share_lists import ACCOUNT, GROUP, GROUP_MARK
from yardgate.core.host.state import Offer
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import GUEST_ACCOUNT
from yardgate.core.model.share import share_name_trouble
from yardgate.formats.reading import FormatError
from yardgate.formats.smb_server import names


def write(matrix: Matrix, where: Callable[[str], str]) -> str:
    """The sections of all shares that are offered over SMB. where: place id -> folder on the server.

    Raises FormatError for a name that such a configuration cannot carry.
    """
    named = host_names(matrix.plan)
    for user in matrix.plan.users.keys() & named.keys():
        if named[user].startswith(GROUP_MARK):
            raise FormatError(f"{show(named[user])} cannot be named in a configuration: it would be a group")
    return render(offers(matrix, where, named))


def render(offers: Iterable[Offer]) -> str:
    """The sections of some shares. Raises FormatError for a name that such a configuration cannot carry."""
    return "\n".join("\n".join(_section(one)) + "\n" for one in offers)


def _section(share: Offer) -> Iterator[str]:
    if (why := share_name_trouble(share.name)) is not None or not share.name.isprintable():
        raise FormatError(f"{show(share.name)} cannot be the name of a share: it {why or 'has a control character'}")
    yield f"[{share.name}]"
    yield from (f" # {line}".rstrip("\\ ") for line in share.note.splitlines() if line.strip())
    yield f" path = {_value(share.path)}"
    if share.people and share.people != share.named:
        yield f" # named themselves, since their groups give something else: {', '.join(map(_called, sorted(share.people)))}"
    guest = [GUEST_ACCOUNT] if share.guests > Level.NA else []
    let_in = [*share.enters, *share.reads, *share.writes]
    if not let_in and not share.everybody and not guest:
        yield " available = no"
    yield f" read only = {'no' if share.usual == Level.RW else 'yes'}"
    if not share.everybody:
        yield _list("valid users", [*sorted(let_in), *guest])
    if share.refused:
        yield _list("invalid users", share.refused)
    writes = [*share.writes, *(guest if share.guests == Level.RW > share.usual else [])]
    if writes:
        yield _list("write list", writes)
    reads = [*share.reads, *(guest if share.guests == Level.RO else [])]
    if reads and share.usual == Level.RW:
        yield _list("read list", reads)
    if share.roots:
        yield _list("admin users", share.roots)
    if share.acts_as:
        yield _list("force user", [share.acts_as])
    if share.acts_as_group:
        yield f" force group = {_called(share.acts_as_group)}"
    yield f" guest ok = {'yes' if guest else 'no'}"
    yield f" browseable = {'no' if share.hidden else 'yes'}"
    yield f" hide unreadable = {'yes' if share.hide_unreadable else 'no'}"
    wanted = {"acl_xattr": share.ordered, "shadow_copy2": share.versions, "recycle": share.recycle}
    modules = [name for name, is_wanted in wanted.items() if is_wanted]
    if modules:
        yield f" vfs objects = {' '.join(modules)}"
    if share.ordered:
        yield " acl_xattr:ignore system acls = yes"
    else:  # what is made is as its folder says, so that whoever may write there may go on with what others made
        yield " inherit permissions = yes"
    if share.versions and share.snapdir:
        yield from (f" shadow:snapdir = {share.snapdir}", " shadow:format = GMT-%Y.%m.%d-%H.%M.%S")
    if share.recycle:  # a folder for each, since all who may read one folder could read what others had deleted
        yield from (" recycle:repository = .recycle/%U", " recycle:directory_mode = 0711")
        yield from (" recycle:subdir_mode = 0700", " recycle:keeptree = yes", " recycle:versions = yes")


def read(text: str) -> tuple[Offer, ...]:
    """The shares of a configuration that `render` wrote. Raises FormatError, with the line, for a setting that it never writes."""
    found: list[tuple[str, dict[str, str]]] = []
    for number, line in enumerate(text.splitlines(), 1):
        line = line.strip()
        if not line or line[0] in "#;":
            continue
        if line.startswith("[") and line.endswith("]"):
            found.append((line[1:-1], {}))
            continue
        key, equals, value = (part.strip() for part in line.partition("="))
        if not equals or not found or key not in SETTINGS:
            raise FormatError(f"{show(line)} is nothing that a rollout writes", number, 1)
        found[-1][1][key] = value
    return tuple(_offer(name, said) for name, said in found)


def in_effect(text: str) -> Mapping[str, Offer]:
    """Shares by folded name, as testparm(1) tells of the whole configuration: what differs from its [global] section and the server's own
    settings."""
    sections: dict[str, dict[str, str]] = {}
    here: dict[str, str] = {}
    for line in text.splitlines():
        line = line.strip()
        if line.startswith("[") and line.endswith("]"):
            here = sections.setdefault(fold(line[1:-1]), {})
        elif "=" in line and not line.startswith("#"):
            key, _, value = (part.strip() for part in line.partition("="))
            here[key.lower()] = value.lower() if value in ("Yes", "No") else value
    usual = {key: value for key, value in sections.get("global", {}).items() if key in SETTINGS}
    found = {}
    for name, said in sections.items():
        one = _offer(name, {**usual, **said})
        foreign = [f"{key} = {said[key]}" for key in sorted(said.keys() - SETTINGS)]
        if said.get("available") == "no" and (one.enters or one.writes or one.reads or one.guests > Level.NA):
            foreign.append("available = no")
        found[name] = replace(one, foreign=tuple(foreign), everybody=one.everybody and said.get("available") != "no")
    return found


SETTINGS = frozenset({
    "path", "available", "read only", "valid users", "invalid users", "write list", "read list", "admin users", "force user", "force group", "guest ok", "browseable", "hide unreadable",
    "vfs objects", "acl_xattr:ignore system acls", "inherit permissions", "recycle:repository", "recycle:directory_mode", "recycle:subdir_mode", "recycle:keeptree", "recycle:versions",
    "shadow:snapdir", "shadow:format",
})  # fmt: skip


def _offer(name: str, said: Mapping[str, str]) -> Offer:
    def accounts(key: str) -> list[str]:
        return [one for one in names(said.get(key, "")) if one != GUEST_ACCOUNT]

    modules = said.get("vfs objects", "").split()
    usual = Level.RW if said.get("read only") == "no" else Level.RO
    let_in, writes, reads = set(accounts("valid users")), set(accounts("write list")), set(accounts("read list"))
    if usual == Level.RO:
        reads = let_in - writes
    guests = Level.NA
    if said.get("guest ok") == "yes":
        guests = Level.RO if usual == Level.RO or GUEST_ACCOUNT in names(said.get("read list", "")) else Level.RW
        guests = Level.RW if GUEST_ACCOUNT in names(said.get("write list", "")) else guests
    return Offer(
        name=name,
        path=said.get("path", ""),
        usual=usual,
        everybody="valid users" not in said,
        enters=tuple(sorted(let_in - writes - reads)),
        writes=tuple(sorted(writes)),
        reads=tuple(sorted(reads)),
        refused=tuple(sorted(accounts("invalid users"))),
        roots=tuple(sorted(accounts("admin users"))),
        acts_as=said.get("force user", "").strip('"'),
        acts_as_group=said.get("force group", "").strip('"'),
        guests=guests,
        hidden=said.get("browseable") == "no",
        hide_unreadable=said.get("hide unreadable") == "yes",
        versions="shadow_copy2" in modules,
        snapdir=said.get("shadow:snapdir", "") if "shadow_copy2" in modules else "",
        recycle="recycle" in modules,
        ordered="acl_xattr" in modules,
    )


def _list(name: str, accounts: Iterable[str]) -> str:
    return f" {name} = {', '.join(map(_called, accounts))}"


def _called(who: str) -> str:
    """A name as it stands in a list: a group's with its mark, in quotes where it has a space."""
    pattern = GROUP if who.startswith(GROUP_MARK) else ACCOUNT
    if not pattern.fullmatch(who.removeprefix(GROUP_MARK)):
        raise FormatError(f"{show(who)} cannot be named in a configuration")
    return f'"{who}"' if " " in who else who


def _value(text: str) -> str:
    """A value as it stands. A line break begins another setting, a backslash at the end swallows the next, % is replaced."""
    if set(text) & set('\r\n%"') or text.endswith("\\") or text != text.strip():
        raise FormatError(f"the path {show(text)} cannot stand in a configuration")
    return text
