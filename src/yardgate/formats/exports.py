"""Shares as the kernel's NFS server reads them (exports(5)): a line a share, its hosts and what they get."""

import re
from collections.abc import Callable, Iterable, Iterator

from yardgate.core.acl.rights import Level
from yardgate.core.host.compiled import export, is_exported
from yardgate.core.host.state import Export
from yardgate.core.model.naming import show
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import HostRule, Squash, hosts, in_order
from yardgate.formats.reading import FormatError

NOBODY = 65534  # whom a squashed client is taken for
SQUASH: dict[Squash, str] = {"none": "no_root_squash", "root": "root_squash", "all": "all_squash"}


def write(plan: Plan, where: Callable[[str], str]) -> str:
    """A line for each share that is offered over NFS. where: place id -> folder on the server. Raises FormatError."""
    shares = sorted((share for share in plan.shares.values() if is_exported(plan, share)), key=lambda share: share.name)
    if plan.target.host_rules == "first":
        for share in shares:
            if tuple(in_order(share.hosts, "narrowest")) != share.hosts:
                raise FormatError(
                    f"{share.name} has a wider host rule before a narrower one, which these lines cannot keep"
                )
    return render(export(plan, share, where(share.place)) for share in shares)


def render(exports: Iterable[Export]) -> str:
    """A line for each export.

    The server takes single hosts before networks before patterns, and of one kind the line that comes first: rules stand with the
    narrowest first. A host that is to get nothing is offered a protection that no client without a ticket has, since these lines
    know no refusal and a wider rule would let it in. Raises FormatError for what cannot stand in such a file.
    """
    return "".join(f"{_said(one)}{_path(one.path)} {' '.join(_clients(one))}\n" for one in exports)


def _said(export: Export) -> str:
    """The line above each: which share it is."""
    if not export.name.isprintable():
        raise FormatError(f"{show(export.name)} cannot be the name of a share: it has a control character")
    return f"{SHARE}{export.name}\n"


def read(text: str) -> tuple[Export, ...]:
    """The exports of a file that `render` wrote. Raises FormatError, with the line, for what it never writes."""
    found, name = [], None
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith(SHARE):
            name = line.removeprefix(SHARE)
        elif line.strip() and not line.startswith("#"):
            matched = _LINE.fullmatch(line)
            clients = [_CLIENT.fullmatch(one) for one in matched[2].split()] if matched is not None else []
            if name is None or matched is None or not clients or not all(clients):
                raise FormatError(f"{show(line)} is nothing that a rollout writes", number, 1)
            known = [client for client in clients if client is not None]
            path = re.sub(r"\\134", lambda _: "\\", matched[1])
            level = {("rw", "sys"): Level.RW, ("ro", "sys"): Level.RO}
            rules = tuple(
                HostRule(hosts=c["hosts"], level=level.get((c["access"], c["flavour"]), Level.NA)) for c in known
            )
            squash = next(kind for kind, word in SQUASH.items() if word == known[0]["squash"])
            found.append(Export(name=name, path=path, rules=rules, squash=squash))
            name = None
    return tuple(found)


SHARE = "# share "
_LINE = re.compile(r'"([^"]*)" (.*)')
_CLIENT = re.compile(
    r"(?P<hosts>[^()\s]+)\((?P<access>r[ow]),sec=(?P<flavour>sys|krb5p),(?P<squash>"
    + "|".join(SQUASH.values())
    + r"),anonuid=\d+,anongid=\d+,sync,no_subtree_check\)"
)


def _path(path: str) -> str:
    if set(path) & set('"\r\n\0') or not path.startswith("/"):
        raise FormatError(f"the path {show(path)} cannot stand among exports")
    return '"' + path.replace("\\", "\\134") + '"'


def _clients(export: Export) -> Iterator[str]:
    for rule in in_order(export.rules, "narrowest"):
        known = hosts(rule.hosts)
        client = str(known.network) if known.network is not None and known.kind == "network" else rule.hosts
        access = "rw" if rule.level == Level.RW else "ro"
        flavour = "sec=krb5p" if rule.level == Level.NA else "sec=sys"
        yield f"{client}({access},{flavour},{SQUASH[export.squash]},anonuid={NOBODY},anongid={NOBODY},sync,no_subtree_check)"
