"""Shares as an SMB server's configuration has them (smb.conf(5)): one section a share, who gets in by name.

`valid users` are those who get in, `write list` those who may write; a guest counts as the guest account.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from yardgate.core.access.batch.resolve import Matrix
from yardgate.core.acl.rights import Level
from yardgate.core.host.state import GUEST_ACCOUNT, Offer, host_names, offer
from yardgate.core.model.naming import show
from yardgate.core.model.share import share_name_trouble
from yardgate.formats.reading import FormatError


def write(matrix: Matrix, where: Callable[[str], str]) -> str:
    """The sections of all shares that are offered over SMB. where: place id -> folder on the server.

    Raises FormatError for a name that such a configuration cannot carry.
    """
    shares = sorted((share for share in matrix.plan.shares.values() if share.smb), key=lambda share: share.name)
    named = host_names(matrix.plan)
    return render(offer(matrix, share, where(share.place), named) for share in shares)


def render(offers: Iterable[Offer]) -> str:
    """The sections of some shares. Raises FormatError for a name that such a configuration cannot carry."""
    return "\n".join("\n".join(_section(one)) + "\n" for one in offers)


def _section(share: Offer) -> Iterator[str]:
    if (why := share_name_trouble(share.name)) is not None or not share.name.isprintable():
        raise FormatError(f"{show(share.name)} cannot be the name of a share: it {why or 'has a control character'}")
    yield f"[{share.name}]"
    yield f" path = {_value(share.path)}"
    guest = [GUEST_ACCOUNT] if share.guests > Level.NA else []
    if not share.reads and not share.writes and not guest:
        yield " available = no"
    yield " read only = yes"
    yield _list("valid users", [*share.reads, *share.writes, *guest])
    yield _list("write list", [*share.writes, *(guest if share.guests == Level.RW else [])])
    if share.roots:
        yield _list("admin users", share.roots)
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


SETTINGS = frozenset({
    "path", "available", "read only", "valid users", "write list", "admin users", "guest ok", "browseable", "hide unreadable",
    "vfs objects", "acl_xattr:ignore system acls", "inherit permissions", "recycle:repository", "recycle:directory_mode", "recycle:subdir_mode", "recycle:keeptree", "recycle:versions",
})  # fmt: skip


def _offer(name: str, said: Mapping[str, str]) -> Offer:
    def accounts(key: str) -> list[str]:
        return [account for account in said.get(key, "").replace(",", " ").split() if account != GUEST_ACCOUNT]

    modules, writes = said.get("vfs objects", "").split(), accounts("write list")
    guests = Level.NA
    if said.get("guest ok") == "yes":
        guests = Level.RW if GUEST_ACCOUNT in said.get("write list", "").replace(",", " ").split() else Level.RO
    return Offer(
        name=name,
        path=said.get("path", ""),
        reads=tuple(sorted(set(accounts("valid users")) - set(writes))),
        writes=tuple(sorted(writes)),
        roots=tuple(sorted(accounts("admin users"))),
        guests=guests,
        hidden=said.get("browseable") == "no",
        hide_unreadable=said.get("hide unreadable") == "yes",
        versions="shadow_copy2" in modules,
        recycle="recycle" in modules,
        ordered="acl_xattr" in modules,
    )


def _list(name: str, accounts: Iterable[str]) -> str:
    found = list(accounts)
    for account in found:
        if not ACCOUNT.fullmatch(account):
            raise FormatError(f"{show(account)} cannot be named in a configuration")
    return f" {name} = {', '.join(found)}"


ACCOUNT = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*\\)?[A-Za-z0-9._][A-Za-z0-9._-]*\$?")
"""A sign-in name, perhaps with the short name of its domain before it: nothing that a server's list would read otherwise."""


def _value(text: str) -> str:
    """A value as it stands. A line break begins another setting, a backslash at the end swallows the next, % is replaced."""
    if set(text) & set('\r\n%"') or text.endswith("\\") or text != text.strip():
        raise FormatError(f"the path {show(text)} cannot stand in a configuration")
    return text
