"""What the kernel's NFS server exports, as it reads its own file (exports(5))."""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from ipaddress import ip_network
from typing import Protocol

from yardgate.core.acl.rights import Level
from yardgate.core.edits.records import PutShare
from yardgate.core.model.names import free_name
from yardgate.core.model.naming import fold, show
from yardgate.core.model.plan import Plan
from yardgate.core.model.share import HostRule, Share, Squash, hosts
from yardgate.formats.reading import Toward
from yardgate.formats.taking import Taking

WITHOUT_EFFECT = {
    "", "rw", "ro", "sync", "async", "no_subtree_check", "subtree_check", "root_squash", "no_root_squash", "all_squash", "no_all_squash", "secure",
    "insecure", "wdelay", "no_wdelay", "hide", "nohide", "crossmnt", "auth_nlm", "no_auth_nlm", "secure_locks", "insecure_locks", "security_label",
    "pnfs", "no_pnfs", "mp", "mountpoint", "acl", "no_acl", "rdirplus", "nordirplus",
}  # fmt: skip
"""Options that are understood, and those on which nobody's access depends."""
VALUED = ("sec=", "fsid=", "mp=", "mountpoint=", "anonuid=", "anongid=", "refer=", "replicas=", "xprtsec=")


@dataclass(frozen=True, slots=True)
class Mounting:
    """Some hosts in a line of exports(5), with all options that count for them. hosts: as a plan has them; nothing for all."""

    hosts: str
    options: tuple[str, ...]

    @property
    def level(self) -> Level:
        """What a client gets that shows no ticket (sec=sys). What stands after a list of flavours counts for these alone."""
        write = False
        flavours: list[str] = []
        by_flavour: dict[str, bool] = {}
        for option in self.options:
            if option.startswith("sec="):
                flavours = option.removeprefix("sec=").split(":")
                by_flavour |= {flavour: by_flavour.get(flavour, write) for flavour in flavours}
            elif option in ("rw", "ro"):
                if flavours:
                    by_flavour |= dict.fromkeys(flavours, option == "rw")
                else:
                    write = option == "rw"
        if by_flavour and "sys" not in by_flavour:
            return Level.NA
        return Level.RW if by_flavour.get("sys", write) else Level.RO

    @property
    def tickets(self) -> bool:
        """Whether clients with a ticket get in besides, or alone."""
        return any("krb5" in option for option in self.options if option.startswith("sec="))

    @property
    def squash(self) -> Squash:
        found: Squash = "root"
        for option in self.options:
            match option:
                case "all_squash":
                    found = "all"
                case "no_root_squash":
                    found = "none" if found != "all" else found
                case "root_squash":
                    found = "root" if found == "none" else found
                case "no_all_squash":
                    found = "root" if found == "all" else found
        return found


def take(taking: Taking, file: str, text: str) -> None:
    """The exports of a server as shares of a plan. What it cannot say is noted. What the server itself cannot read ends its reading."""
    wanted: list[tuple[int, str, str, list[str]]] = []
    for number, line in _joined(text):
        matched = re.fullmatch(r'("(?:[^"])*"|\S+)\s*(.*)', line)
        words = matched[2].split() if matched is not None else []
        wrong = next((word for word in words if not _is_readable(word)), None)
        if matched is None or wrong is not None:
            what = show(wrong or line)
            taking.say(
                file, number, f"{what} is nothing that the server can read: it exports nothing from here on", "either"
            )
            break
        path = re.sub(r"\\(\d{3})", lambda octal: chr(int(octal[1], 8)), matched[1].strip('"'))
        place = taking.place(path)
        if place is None:
            why = "is exported, of which no list was given; not imported"
            taking.say(file, number, f"{show(path)} {why}", "more")
            continue
        wanted.append((number, path, place, words))
    offered = _Offered(taking.plan)
    for number, path, place, words in wanted:
        _export(taking, offered, file, number, path, place, words)


class _Offered:
    """The shares that there are so far: by place, and what they are called."""

    def __init__(self, plan: Plan):
        self.by_place: dict[str, dict[str, Share]] = {}
        self.names = set[str]()
        for share in plan.shares.values():
            self.add(share)

    def add(self, share: Share) -> None:
        self.by_place.setdefault(share.place, {})[share.id] = share
        self.names.add(fold(share.name))


def _is_readable(word: str) -> bool:
    """Whether some hosts and their options, or options for all that follow, are written as the server reads them."""
    matched = re.fullmatch(r"-(?P<all>[^()]*)|[^()]*(?:\((?P<these>[^()]*)\))?", word)
    if matched is None:
        return False
    options = (matched["all"] or matched["these"] or "").split(",")
    return all(option in WITHOUT_EFFECT or option.startswith(VALUED) for option in options)


def _export(
    taking: Taking, offered: _Offered, file: str, number: int, path: str, place: str, words: Sequence[str]
) -> None:
    default: list[str] = []
    clients: list[Mounting] = []
    offering = offered.by_place.get(place, {}).values()
    shared = next((share for share in offering if share.id in taking.exported), None)
    shared = shared or next((share for share in offering if not share.nfs), None)
    name = path.rpartition("/")[2] or "root"
    if shared is None:
        free = name if fold(name) not in offered.names else free_name(f"{name} export", offered.names)
        shared = Share(id=taking.fresh(f"export {name}"), name=free, place=place, smb=False, of_host=True)

    def say(text: str, toward: Toward | None) -> None:
        taking.say(file, number, f"{path}: {text}", toward, [shared.id])

    for word in words:
        if word.startswith("-"):
            default = word[1:].split(",")
            continue
        before, _, options = word.rstrip(")").partition("(")
        if not before:
            say(f"a blank stands before {word}, so this is for every host", None)
        found = Mounting(before or "*", (*default, *options.split(",")))
        if (known := _hosts(found.hosts, say)) is not None:
            clients.append(replace(found, hosts=known))
    if not words or all(word.startswith("-") for word in words):
        say("no host is named, so it is for every host", None)
        clients.append(Mounting("*", tuple(default)))
    for client in clients:
        _say_options(client, say)
    if not clients:
        return
    squashes = {client.squash for client in clients}
    order: tuple[Squash, ...] = ("all", "root", "none")
    kind = next(kind for kind in order if kind in squashes)
    if len(squashes) > 1:
        others = ", ".join(client.hosts for client in clients if client.squash != kind)
        say(
            f"from {others} fewer are taken for the guest than from the others; the plan has {kind}_squash for all",
            "more",
        )
    if shared.id in taking.exported:
        squashes.add(shared.squash)
        kind = next(kind for kind in order if kind in squashes)
    rules = (*(shared.hosts if shared.id in taking.exported else ()), *_rules(clients))
    taking.exported.add(shared.id)
    unique = {rule.hosts: rule for rule in reversed(rules)}  # of two for the same hosts the first counts
    new = replace(shared, nfs=True, hosts=tuple(reversed(unique.values())), squash=kind)
    offered.add(new)
    taking.do([PutShare(new)])


def _rules(clients: Iterable[Mounting]) -> Iterator[HostRule]:
    return (HostRule(hosts=client.hosts, level=client.level) for client in clients)


def _hosts(text: str, say: "Say") -> str | None:
    """Hosts as a plan has them; None, with a note, where it cannot."""
    if text.startswith("@"):
        say(f"{text} is a netgroup: which hosts are in it is not known", "more")
        return None
    if text in ("gss/krb5", "gss/krb5i", "gss/krb5p"):
        say(f"{text} lets in whoever has a ticket, from every host", "more")
        return None
    if "/" in text:
        try:
            network = ip_network(text, strict=False)
        except ValueError:
            pass
        else:
            if network.prefixlen == network.max_prefixlen:
                return str(network.network_address)
            return str(network)
    if set(text) & set("*?") and text != "*" and set(text) <= set("0123456789.*?"):
        say(f"{text} is compared with names of hosts alone, never with addresses", "less")
    if "[" in text:
        say(f"{text} has a set of characters, which a plan has not", "more")
        return None
    try:
        hosts(text)
    except ValueError as error:
        say(f"{error}", "more")
        return None
    return text


def _say_options(client: Mounting, say: "Say") -> None:
    if client.tickets:
        say(f"{client.hosts}: whoever has a Kerberos ticket gets in by it, as whom it names", "more")
    for option in client.options:
        name, _, value = option.partition("=")
        if name in ("anonuid", "anongid") and value != "65534":
            say(f"{client.hosts}: guests count as the number {value} ({option})", "either")
        elif name in ("refer", "replicas"):
            say(f"{client.hosts}: clients are sent to another server ({option})", "less")
        elif name == "xprtsec" and "none" not in value:
            say(f"{client.hosts}: clients without TLS do not get in ({option})", "less")
        elif name == "sec" and {"none", "null"} & set(value.split(":")):
            say(f"{client.hosts}: whoever asks without saying who they are gets in as the guest ({option})", "more")


class Say(Protocol):
    """How something is told of an export."""

    def __call__(self, text: str, toward: Toward | None) -> None: ...


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
