"""Everything that reads foreign text, from bytes; with samples to begin from, and what such a reader may say instead of an answer.

A text of several parts (two account files, all that a host says) has them one after the other, with a line `%%` between.
"""

import io
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import UTC, date, datetime
from itertools import cycle
from typing import Any, get_args

import openpyxl
from pydantic import TypeAdapter

from tests.formats.corpus_tables import ods, xls
from yardgate import demo
from yardgate.api.schemas import Edits
from yardgate.api.transport.parsing import Wrong, parsed
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.acl import Entry, Ordered
from yardgate.core.edits.apply import apply
from yardgate.core.edits.describe import sentence
from yardgate.core.edits.difference import difference
from yardgate.core.edits.records import Edit
from yardgate.core.host import going_back
from yardgate.core.host.compiled import compiled
from yardgate.core.host.diagnosis import Asked
from yardgate.core.host.state import Folder
from yardgate.core.model.checks import PlanError
from yardgate.core.model.directory import Schema
from yardgate.core.model.kinds import check
from yardgate.core.model.plan import Plan
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.directory.accounts import records
from yardgate.drivers.linux import contents, datasets, earlier, facts, firewall, reading, sign_in, snapshot
from yardgate.drivers.linux.command import FILES, Command, Done
from yardgate.formats import (
    accounts,
    descriptor,
    edits,
    exports,
    importing,
    ldif,
    list_text,
    listing,
    matrix,
    people,
    planfile,
    promises,
    server,
    smbconf,
    snapshots,
)
from yardgate.formats.importing import ToImport
from yardgate.formats.listed import ListStyle
from yardgate.formats.reading import FormatError, decode

REFUSALS = (FormatError, PlanError, ApplianceError)
BETWEEN = b"\n%%\n"
PLAN = demo.plan()
AT = "office-2"  # the place that listings are of
WANTED = compiled(resolve(PLAN, date(2027, 1, 1)), "/srv").system
EDITS: TypeAdapter[Any] = TypeAdapter(Edits)


class Make(dict[str, Any]):
    """Whatever is not known is made: a place where the name has a slash, a group where it begins with a capital letter, or else a person."""

    def get(self, name: str, _: Any = None) -> Any:
        return "place" if "/" in name else "group" if name[:1].isupper() else "person"

    def __getitem__(self, name: str) -> Any:
        return self.get(name)

    def __contains__(self, _: object) -> bool:
        return True


def _kept(found: tuple[Edit, ...]) -> None:
    """As an import's preview does it: the next plan stands, and every edit has words."""
    after, _ = apply(PLAN, found)
    assert check(after) == ()
    for edit in found[:100]:
        sentence(PLAN, after, edit)


def _table(kind: importing.ImportKind) -> Callable[[bytes], None]:
    return lambda content: _kept(importing.read(PLAN, ToImport(kind=kind, content=content, make=Make())).reading.edits)


def _parts(content: bytes, number: int) -> list[bytes]:
    return (content.split(BETWEEN) + [b""] * number)[:number]


def _host(content: bytes) -> Callable[[Command], Done]:
    """A host that answers each command with the next part of what it has to say."""
    parts = cycle(part.decode("utf-8", "surrogateescape") for part in content.split(BETWEEN))
    return lambda _: Done(0, next(parts), "")


def _listing(style: ListStyle) -> Callable[[bytes], None]:
    return lambda content: _kept(listing.read(PLAN, decode(content, nul=style == "mode"), style, AT, Make()).edits)


def _list(style: ListStyle) -> Callable[[bytes], object]:
    return lambda content: list_text.list_from_text(PLAN, decode(content), style)


def _accounts(content: bytes) -> None:
    passwd, group = _parts(content, 2)
    _kept(accounts.read(PLAN, decode(passwd), decode(group), 1000, 60000, True).edits)


SERVER = ("smb.conf", "more.conf", "passwd", "group", "exports", "getfacl.txt", "pdbedit.txt")


def _server(content: bytes) -> None:
    said = {name: decode(part) for name, part in zip(SERVER, _parts(content, len(SERVER)), strict=True) if part}
    _kept(server.read(PLAN, server.sorted_out(said), Make()).edits)


def _directory(content: bytes) -> None:
    entries = list(ldif.read(content))
    for schema in get_args(Schema):
        records(replace(demo.DIRECTORY, schema=schema), entries)


def _inside(book: bytes, part: str) -> Callable[[bytes], None]:
    """The inside of a workbook, which a change of the packed bytes hardly ever reaches."""

    def read(content: bytes) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(book)) as packed, zipfile.ZipFile(out, "w") as written:
            for name in packed.namelist():
                written.writestr(name, content if name == part else packed.read(name))
        _table("matrix")(out.getvalue())

    return read


def _request(content: bytes) -> None:
    found = parsed(content, EDITS)
    if not isinstance(found, Wrong):
        _kept(tuple(EDITS.validate_python(found).edits))


def _host_read(content: bytes) -> None:
    reading.read(_host(content), WANTED)


def _host_about(content: bytes) -> None:
    reading.about(_host(content))


def _host_inside(content: bytes) -> None:
    list(contents.inside(_host(content), "/srv/tank"))


def _host_taken(content: bytes) -> None:
    _kept(server.read(PLAN, snapshot.copied(_host(content), ["/srv"]), Make()).edits)


def _host_since(content: bytes) -> None:
    list(earlier.since(_host(content), "/srv/tank", going_back.named(datetime(2026, 3, 1, tzinfo=UTC))))


def _host_facts(content: bytes) -> None:
    facts.facts(
        _host(content), Asked(account="mira", share="hulls", path="a/b", machine="192.0.2.7"), FILES, "/srv/tank"
    )


def _host_walls(content: bytes) -> None:
    firewall.shut(_host(content), "smb")


def _host_owned(content: bytes) -> None:
    contents.owned(_host(content), "mira", ["/srv/a", "/srv/b"])


def _book(text: str) -> bytes:
    book, out = openpyxl.Workbook(), io.BytesIO()
    for line in text.splitlines()[:4]:
        book.active.append(line.split(",")[:4])
    book.save(out)
    return out.getvalue()


ROWS, SHEET, OPEN_SHEET = "name,keel\nLedger,RW\n", "xl/worksheets/sheet1.xml", "content.xml"
CELLS = [line.split(",") for line in ROWS.splitlines()]
READERS: Mapping[str, Callable[[bytes], object]] = {
    "plan": lambda content: _kept(difference(PLAN, planfile.read(decode(content)))),
    "matrix": _table("matrix"),
    "xlsx": _inside(_book(ROWS), SHEET),
    "ods": _inside(ods(CELLS), OPEN_SHEET),
    "xls": _table("matrix"),
    "people": _table("people"),
    "promises": _table("promises"),
    "sentence": lambda content: promises.read_sentence(PLAN, decode(content)),
    "accounts": _accounts,
    "posix": _listing("posix"),
    "mode": _listing("mode"),
    "ordered": _listing("ordered"),
    "one posix": _list("posix"),
    "one ordered": _list("ordered"),
    "ldif": _directory,
    "server": _server,
    "smbconf": lambda content: smbconf.read(decode(content)),
    "exports": lambda content: exports.read(decode(content)),
    "descriptor": lambda content: descriptor.read(content, str),
    "request": _request,
    "host": _host_read,
    "host about": _host_about,
    "host inside": _host_inside,
    "host taken": _host_taken,
    "host since": _host_since,
    "host facts": _host_facts,
    "host sessions": lambda content: sign_in.sessions(_host(content)),
    "host walls": _host_walls,
    "host owned": _host_owned,
}


def _part(book: bytes, part: str) -> bytes:
    return zipfile.ZipFile(io.BytesIO(book)).read(part)


def _samples() -> Mapping[str, list[bytes]]:
    """For each reader, what the program itself writes of the demo plan, or what a host of the demo would say."""
    made, people_there, groups_there = difference(Plan(), PLAN), WANTED.accounts.values(), WANTED.groups.values()
    members = {name: ",".join(sorted(found.users)) for name, found in WANTED.members.items()}
    passwd = "".join(f"{one.name}:x:{one.uid or 5000}:100:{one.full_name},,:/:/bin/sh\n" for one in people_there)
    shadow = "".join(f"{one.name}:!:19000:0:99999:7::20500:\n" for one in people_there)
    group = "".join(f"{one.name}:x:{one.gid or 6000}:{members.get(one.name, '')}\n" for one in groups_there)
    passdb = "".join(PASSDB.format(one.name, number) for number, one in enumerate(people_there))
    smb, nfs = smbconf.render(WANTED.offers.values()), exports.render(WANTED.exports.values())
    lists, nfs4 = list_text.write_restore(PLAN, "hulls"), list_text.write_nfs4(PLAN, "toolpaths")
    table, rows, request = matrix.write_grants(PLAN), people.write(PLAN), '{{"revision":1,"edits":{}}}'
    kept = Folder(name="/srv/tank/c", owner="mira", group="draughting", listed=Ordered((Entry("allow", "mira", 7, 3),)))
    value = b"".join(bytes.fromhex(said) if kind == "hex" else b"\1\2\0\0" for kind, said in descriptor.pieces(kept))

    own = "".join(
        f"dataset\t{one.file_system}\t{path}\t{one.place}\t{one.quota}\t{1 << 30}\tsensitive\n"
        for path, one in WANTED.datasets.items()
    )
    own += "group\t/srv/ballast\tmachines\t1073741824\n"
    timer = "\0".join((datasets.PROGRAM, datasets.timer(FILES), snapshots.render(WANTED.datasets.values()), ""))

    def parts(*texts: str) -> bytes:
        return BETWEEN.join(text.encode() for text in texts)

    return {
        "plan": [planfile.write(PLAN).encode()],
        "matrix": [table.encode(), table.replace(",", ";").encode(), _book(table)],
        "xlsx": [_part(_book(ROWS), SHEET)],
        "ods": [_part(ods(CELLS), OPEN_SHEET)],
        "xls": [xls(CELLS)],
        "people": [rows.encode(), _book(rows)],
        "promises": [promises.write(PLAN).encode()],
        "sentence": [b"Everyone but Ledger must not be able to write keel/office/payroll over smb."],
        "accounts": [parts(passwd, group)],
        "posix": [lists.encode(), LIST.encode()],
        "mode": [b"d 2770 root Ledger office\0d 755 root root office/a\0f 640 root root office/b\0"],
        "ordered": [nfs4.encode(), b"# file: office\nA:fdg:Ledger:rwaDdxtTnNcCoy\nD::EVERYONE@:w\n"],
        "one posix": [LIST.partition("\n")[2].encode()],
        "one ordered": [b"A::OWNER@:r\nA:fdg:Ledger:rwaDdxtTnNcCoy\nD::EVERYONE@:w\n"],
        "ldif": [ldif.write(entry[:2] for entry in demo.entries()).encode(), ldif.local_accounts(PLAN).encode()],
        "server": [parts(OFFICE, "[b]\n guest ok = yes\n", passwd, group, EXPORTS, LIST, passdb)],
        "smbconf": [smb.encode()],
        "exports": [nfs.encode()],
        "descriptor": [value],
        "request": [request.format(edits.write([edit])).encode() for edit in made[::7]],
        "host": [parts(group, passwd, shadow, passdb, ALIASES, FILES.users, own, timer, LIST, "", smb, smb, nfs, "/srv/keel/hulls  192.0.2.0/24(rw,sync)\n", "nfs yes yes\nsmb yes no\n")],
        "host about": [parts(passwd, group, "UID_MIN  1000\nGID_MIN 1000\n", "keel\n", "Yes\n")],
        "host inside": [parts("f/srv/a\0h/srv/b\0d/srv/tank/c\0", LIST, f"# file: /srv/a\n{NTACL}=0x{value.hex()}\n", passdb, group)],
        "host taken": [parts(OFFICE, "[b]\n guest ok = yes\n", EXPORTS, LIST, passwd, group, passdb, "mira:20500\nedda:\n", SHARE_ACL)],
        "host since": [parts("/srv/tank/.snapshots/one", "a\0b\0", SINCE, "")],
        "host facts": [parts(group, passwd, shadow, passdb, ALIASES, FILES.users, LIST, "", smb, smb, "smb yes yes\n", FACTS, WALLS, ROUTE, passdb, SESSIONS)],
        "host sessions": [SESSIONS.encode()],
        "host walls": [parts(WALLS, ADDRESSES)],
        "host owned": [b"12 4096\n3 8\n"],
    }  # fmt: skip


NTACL = descriptor.ATTRIBUTE
PASSDB = """---------------
Unix username:        {}
User SID:             S-1-5-21-1-2-3-{}
Account Flags:        [U          ]
Kickoff time:         never
"""
ALIASES = """mira.oyelaran = "mira@keelworks.example"
"""
SHARE_ACL = (
    "[a]\nREVISION:1\nCONTROL:SR|DP\nOWNER:\nGROUP:\nACL:S-1-1-0:ALLOWED/0x0/READ\nACL:DOM\\mira:ALLOWED/0x0/FULL\n"
)
SINCE = """{"things": 5, "changed": 1, "new": 1, "gone": 1, "rights": 0, "left": 1, "people": {"mira": 2}, "latest": 1772000000,
"some": [["changed", "a/b", ""], ["left", "c", "a socket"]]}"""
FACTS = """listens 0.0.0.0:445
groups mira\tdraughting
regrouped 1772000000
link /srv/tank/a
options rw,relatime
free 1000 2000
quota 1000 2000
"""
WALLS = """{"nftables": [{"table": {"family": "inet", "name": "filter"}},
{"set": {"family": "inet", "table": "filter", "name": "office", "elem": [{"prefix": {"addr": "192.0.2.0", "len": 24}}, {"range": [1, 9]}]}},
{"chain": {"family": "inet", "table": "filter", "name": "in", "hook": "input", "prio": 0, "policy": "drop"}},
{"chain": {"family": "inet", "table": "filter", "name": "smb"}},
{"rule": {"family": "inet", "table": "filter", "chain": "in", "expr": [{"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["new"]}},
{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": {"set": [445, {"range": [137, 139]}]}}}, {"jump": {"target": "smb"}}]}},
{"rule": {"family": "inet", "table": "filter", "chain": "smb", "expr": [{"match": {"op": "!=", "left": {"payload": {"protocol": "ip", "field": "saddr"}},
"right": "@office"}}, {"counter": {"packets": 0}}, {"drop": null}]}}]}"""
ADDRESSES = """[{"ifname": "lan0", "addr_info": [{"local": "192.0.2.5", "prefixlen": 24, "scope": "global"}]}]"""
ROUTE = """[{"dst": "192.0.2.7", "dev": "lan0"}]"""
SESSIONS = """{"sessions": {"7": {"session_id": "7", "server_id": {"pid": "41"}, "uid": 1001, "username": "mira", "remote_machine": "192.0.2.9"}},
"tcons": {"3": {"session_id": "7", "service": "hulls", "connected_at": "2026-03-01T10:00:00"}},
"open_files": {"/srv/a": {"service_path": "/srv", "filename": "a", "opens": {"1": {"server_id": {"pid": "41"}, "uid": 1001}}}}}"""
LIST = """# file: /srv/a
# owner: root
# group: Ledger
# flags: -s-
user::rwx
user:gwen.castellan:r-x\t#effective:r--
group::r-x
mask::r--
other::---
default:user::rwx
default:group:Ledger:rwx
default:group::---
default:mask::rwx
default:other::---
"""
OFFICE = """[global]
 workgroup = OFFICE
 include = /etc/samba/more.conf
[a]
 path = /srv/a
 valid users = @Ledger, +"late ones" DOM\\mira %S
 write list = mira \\
   jonas
 copy = b
[homes]
 browseable = no
"""
EXPORTS = "/srv/a 192.0.2.0/24(rw,sync) @net(ro) \\\n *.example.net(ro,all_squash,anonuid=5)\n"
SAMPLES = _samples()
