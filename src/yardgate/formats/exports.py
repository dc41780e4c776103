"""Shares as the kernel's NFS server reads them (exports(5)): a line a share, its hosts and what they get."""

from collections.abc import Callable, Iterator

from yardgate.core.plan import Plan, show
from yardgate.core.rights import Level
from yardgate.core.share import Share, Squash, hosts, in_order
from yardgate.core.ways import is_on
from yardgate.formats.reading import FormatError

NOBODY = 65534  # whom a squashed client is taken for
SQUASH: dict[Squash, str] = {"none": "no_root_squash", "root": "root_squash", "all": "all_squash"}


def write(plan: Plan, where: Callable[[str], str]) -> str:
    """A line for each share that is offered over NFS. where: place id -> folder on the server.

    The server takes single hosts before networks before patterns, and of one kind the line that comes first: rules stand with the
    narrowest first. A host that is to get nothing is offered a protection that no client without a ticket has, since these lines
    know no refusal and a wider rule would let it in. Raises FormatError for what cannot stand in such a file.
    """
    shares = [share for share in plan.shares.values() if share.nfs and share.hosts and is_on(plan, "nfs")]
    return "".join(
        f"{_path(where(share.place))} {' '.join(_clients(plan, share))}\n"
        for share in sorted(shares, key=lambda share: share.name)
    )


def _path(path: str) -> str:
    if set(path) & set('"\r\n\0') or not path.startswith("/"):
        raise FormatError(f"the path {show(path)} cannot stand among exports")
    return '"' + path.replace("\\", "\\134") + '"'


def _clients(plan: Plan, share: Share) -> Iterator[str]:
    rules = in_order(share.hosts, "narrowest")
    if plan.target.host_rules == "first" and tuple(rules) != share.hosts:
        raise FormatError(f"{share.name} has a wider host rule before a narrower one, which these lines cannot keep")
    for rule in rules:
        known = hosts(rule.hosts)
        client = str(known.network) if known.network is not None and known.kind == "network" else rule.hosts
        access = "rw" if rule.level == Level.RW and not share.read_only else "ro"
        flavour = "sec=krb5p" if rule.level == Level.NA else "sec=sys"
        yield f"{client}({access},{flavour},{SQUASH[share.squash]},anonuid={NOBODY},anongid={NOBODY},sync,no_subtree_check)"
