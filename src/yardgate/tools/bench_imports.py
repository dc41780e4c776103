"""`yardgate bench --imports`: how long each reader takes over very much of what it reads, whether it comes in or is refused as too much."""

import io
import random
import time
from collections.abc import Callable, Iterator, Mapping

from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableCell, TableRow
from odf.text import P
from openpyxl import Workbook

from yardgate import demo
from yardgate.core.model.plan import Plan
from yardgate.formats import importing, ldif
from yardgate.formats.importing import ImportKind, ToImport
from yardgate.formats.reading import FormatError
from yardgate.tools.bench import Result

SIZE = 10_000_000  # bytes of each text
TOP = "# file: srv/data\n# owner: root\n# group: root\nuser::rwx\ngroup::rwx\nother::---\n\n"
LIST = "user::rwx\ngroup::rwx\ngroup:crew:r-x\nmask::rwx\nother::---\ndefault:user::rwx\ndefault:group::rwx\ndefault:other::---\n\n"
Writes = Callable[[int], str]


def _long(line: Writes, first: str, size: float) -> bytes:
    """Lines of a text, as many as make it so long."""
    found, length, number = [first], len(first), 0
    while length < size:
        found.append(line(number))
        length += len(found[-1])
        number += 1
    return "".join(found).encode()


def _table(columns: int, part: float, word: Callable[[], str]) -> bytes:
    lines = [["name", *(f"pool/place-{number}" for number in range(columns))]]
    lines += [
        [f"Ann Bo{row}", *(word() for _ in range(columns))] for row in range(int(590_000 * part) // (columns + 1))
    ]
    return "\n".join(map(",".join, lines)).encode()


def _workbook(rows: int, columns: int) -> bytes:
    book, out = Workbook(write_only=True), io.BytesIO()
    sheet = book.create_sheet()
    for row in range(rows):
        sheet.append([f"{row}/{column}" if 0 in (row, column) else "RW" for column in range(columns)])
    book.save(out)
    return out.getvalue()


def _open_workbook(rows: int, columns: int) -> bytes:
    book, sheet, out = OpenDocumentSpreadsheet(), Table(name="rights"), io.BytesIO()
    for row in range(rows):
        line = TableRow()
        for column in range(columns):
            cell = TableCell()
            cell.addElement(P(text=f"{row}/{column}" if 0 in (row, column) else "RW"))
            line.addElement(cell)
        sheet.addElement(line)
    book.spreadsheet.addElement(sheet)
    book.save(out)
    return out.getvalue()


def _server(people: int, shares: int, folders: int) -> ToImport:
    """A file server of which everything is large at once: each share lets a group and somebody in, and each is exported."""
    files = {
        "passwd": "".join(f"u{number}:x:{1000 + number}:100::/:/bin/sh\n" for number in range(people)),
        "group": "users:x:100:\n"
        + "".join(
            f"g{group}:x:{90_000 + group}:{','.join(f'u{n}' for n in range(people) if n * 7919 % 20 in (group, 3))}\n"
            for group in range(20)
        ),
        "smb.conf": "".join(
            f"[s{n}]\npath = /srv/data/f{n % folders}\nread only = no\nvalid users = @g{n % 20}, u{n % people}\n"
            for n in range(shares)
        ),
        "getfacl.txt": TOP
        + "".join(
            f"# file: srv/data/f{n}\n# owner: root\n# group: g{n % 20}\nuser::rwx\ngroup::rwx\nother::---\n\n"
            for n in range(folders)
        ),
        "exports": "".join(f"/srv/data/f{n % folders} 192.0.2.0/24(rw,sync)\n" for n in range(shares)),
    }
    return ToImport(kind="server", copied=importing.of_server({name: text.encode() for name, text in files.items()}))


class _Made(Mapping[str, str]):
    """Makes whatever the plan does not have."""

    def __getitem__(self, name: str) -> str:
        return "place" if "/" in name else "person"

    def __iter__(self) -> Iterator[str]:
        return iter(())

    def __len__(self) -> int:
        return 1


def _of(kind: ImportKind, content: bytes, second: bytes = b"") -> ToImport:
    return ToImport(kind=kind, content=content, second=second, make=_Made())


def _inputs(draw: random.Random, part: float) -> Iterator[tuple[str, Callable[[], ToImport]]]:
    size = SIZE * part

    def folder(number: int) -> str:
        return f"srv/data/folder-{number // 20:05}/sub-{number % 20:02}"

    def owned(number: int, every: int) -> str:
        return f"# file: {folder(number)}\n# owner: mira\n# group: g{number // every}\n{LIST}"

    yield "folders, most alike", lambda: _of("getfacl", _long(lambda n: owned(n, 1000), TOP, size))
    yield "folders, all different", lambda: _of("getfacl", _long(lambda n: owned(n, 1), TOP, size))
    yield (
        "folders of one name",
        lambda: _of("getfacl", _long(lambda n: owned(n, 10**9).replace("folder", f"x{n}", 1), TOP, size)),
    )
    yield (
        "folders with mode bits",
        lambda: _of("find", _long(lambda n: f"d 2770 root crew {folder(n)}\n", "d 755 root root srv/data\n", size)),
    )
    yield (
        "files with mode bits",
        lambda: _of("find", _long(lambda n: f"f 640 root crew {folder(n)}\n", "d 755 root root srv/data\n", size)),
    )
    yield (
        "ordered lists",
        lambda: _of(
            "nfs4",
            _long(
                lambda n: f"# file: {folder(n)}\nA:fd:OWNER@:rwaDdxtTnNcCoy\nA:fdg:g{n // 9}@example.net:rxtncy\n\n",
                "# file: srv/data\nA:fd:OWNER@:rwaDdxtTnNcCoy\n\n",
                size,
            ),
        ),
    )
    yield "table", lambda: _of("matrix", _table(100, part, lambda: draw.choice(("RW", "read", "", "deny"))))
    yield "table of unknown words", lambda: _of("matrix", _table(30, part, lambda: f"w{draw.randrange(10**6)}"))
    yield (
        "table that is a list",
        lambda: _of(
            "matrix", _long(lambda n: f"pool/p{n % 300},Ann {n % 1999},RW\n", "folder,person,access\n", size / 10)
        ),
    )
    yield "table too large", lambda: _of("matrix", _long(lambda n: f"Ann {n},RW,RW,RW\n", "name,a/b,a/c,a/d\n", SIZE))
    yield "nothing but line ends", lambda: _of("matrix", _long(lambda _: "\n" * 1000, "", size))
    yield "workbook (.xlsx)", lambda: _of("matrix", _workbook(int(580 * part), 100))
    yield "workbook (.xlsx) too large", lambda: _of("matrix", _workbook(700, 100))
    yield "workbook (.ods)", lambda: _of("matrix", _open_workbook(int(400 * part), 100))
    yield (
        "people",
        lambda: _of("people", _long(lambda n: f"p{n},P {n},p{n}@example.net\n", "name,full name,alias\n", size / 10)),
    )
    yield (
        "accounts of a host",
        lambda: _of(
            "accounts",
            _long(lambda n: f"u{n}:x:{1000 + n % 58000}:100:Ann {n}:/:/bin/sh\n", "", size),
            _long(lambda n: f"g{n}:x:{1000 + n}:u{n},u{n + 1}\n", "", size),
        ),
    )
    yield "a file server", lambda: _server(int(3_000 * part), int(1_500 * part), int(3_000 * part))
    yield "a file server of many people", lambda: _server(int(40_000 * part), 250, int(3_000 * part))
    yield "a file server too large", lambda: _server(13_000, 1_000, 1_000)
    yield "noise", lambda: _of("getfacl", TOP.encode() + draw.randbytes(int(size)))


def run(part: float = 1) -> list[Result]:
    """About 10 MB of each kind, or as much as its reader takes, or a part of that: seconds, and what came of it."""
    plan, results = demo.plan(), []
    for what, make in _inputs(random.Random(1), part):
        given = make()
        begun = time.perf_counter()
        results.append(Result(what, _said(plan, given, begun), "5 s"))
    entry = "dn: uid=p{0},dc=example\nobjectClass: inetOrgPerson\nuid: p{0}\ncn: Ann {0}\nmail: p{0}@example.net\n\n"
    text = _long(lambda n: entry.format(n), "", SIZE * part)
    begun = time.perf_counter()
    count = sum(1 for _ in ldif.read(text))
    return [*results, Result("LDIF", f"{time.perf_counter() - begun:.1f} s, {count:,} entries", "5 s")]


def _said(plan: Plan, given: ToImport, begun: float) -> str:
    try:
        reading = importing.read(plan, given).reading
    except FormatError as error:
        return f"{time.perf_counter() - begun:.1f} s, refused: {error.plain[:60]}"
    return f"{time.perf_counter() - begun:.1f} s, {len(reading.edits):,} edits, {len(reading.notes):,} notes"
