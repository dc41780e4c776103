"""Shares as an SMB server's configuration has them (smb.conf(5)): one section a share, who gets in by name.

The server's own lists know two answers, a refusal that beats all and the widest of the rest. So that any clash rule comes out as
planned, each share names the people themselves: `valid users` those who get in, `write list` those who may write.
"""

from collections.abc import Callable, Iterator

from yardgate.core.names import unix_trouble
from yardgate.core.plan import Plan, User, show
from yardgate.core.resolve import Matrix
from yardgate.core.rights import LEVELS, Level
from yardgate.core.share import Over, Share
from yardgate.core.ways import is_on, lets_in, members
from yardgate.formats.reading import FormatError

GUEST_ACCOUNT = "nobody"  # whom the server takes a guest for, `guest account`


def write(matrix: Matrix, where: Callable[[str], str]) -> str:
    """The sections of all shares that are offered over SMB. where: place id -> folder on the server.

    Raises FormatError for a name that such a configuration cannot carry.
    """
    plan = matrix.plan
    shares = sorted((share for share in plan.shares.values() if share.smb), key=lambda share: share.name)
    return "\n".join("\n".join(_section(matrix, share, where(share.place))) + "\n" for share in shares)


def _section(matrix: Matrix, share: Share, path: str) -> Iterator[str]:
    plan, counting = matrix.plan, matrix.counting
    yield f"[{share.name}]"
    yield f" path = {_value(path)}"
    codes = lets_in(matrix, Over(share.id, "smb"))[: counting.users]
    users = [plan.users[subject] for subject in counting.subjects[: counting.users]]
    may = {level: [u for u, code in zip(users, codes, strict=True) if LEVELS[code] == level] for level in LEVELS}
    guests = share.guests if is_on(plan, "smb") else Level.NA
    if guests > Level.NA and (service := plan.services.get("smb")) is not None and service.only is not None:
        guests = Level.NA
    if not may[Level.RO] and not may[Level.RW] and guests == Level.NA:
        yield " available = no"
    yield " read only = yes"
    guest = [GUEST_ACCOUNT] if guests > Level.NA else []
    yield _list(plan, "valid users", may[Level.RO] + may[Level.RW], guest)
    yield _list(plan, "write list", may[Level.RW], [] if guests < Level.RW or share.read_only else guest)
    if share.administrator is not None:
        inside = members(matrix, share.administrator)[: counting.users]
        yield _list(plan, "admin users", [user for user, is_one in zip(users, inside, strict=True) if is_one], [])
    yield f" guest ok = {'yes' if guest else 'no'}"
    yield f" browseable = {'no' if share.hidden else 'yes'}"
    yield f" hide unreadable = {'yes' if share.hide_unreadable else 'no'}"
    modules = [name for name, wanted in (("shadow_copy2", share.versions), ("recycle", share.recycle)) if wanted]
    if modules:
        yield f" vfs objects = {' '.join(modules)}"
    if share.recycle:  # a folder for each, since all who may read one folder could read what others had deleted
        yield from (" recycle:repository = .recycle/%U", " recycle:directory_mode = 0711")
        yield from (" recycle:subdir_mode = 0700", " recycle:keeptree = yes", " recycle:versions = yes")


def _list(plan: Plan, name: str, users: list[User], others: list[str]) -> str:
    return f" {name} = {', '.join([*(_account(plan, user) for user in users), *others])}"


def _account(plan: Plan, user: User) -> str:
    for name in (user.name, plan.source(user.origin)):
        if (why := unix_trouble(name)) is not None:
            raise FormatError(f"{show(name)} cannot be named in a configuration: it {why}")
    return plan.called(user.id)


def _value(text: str) -> str:
    """A value as it stands. A line break begins another setting, a backslash at the end swallows the next, % is replaced."""
    if set(text) & set('\r\n%"') or text.endswith("\\"):
        raise FormatError(f"the path {show(text)} cannot stand in a configuration")
    return text
