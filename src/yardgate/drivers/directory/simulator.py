"""A small simulated LDAP server (RFC 4511) that serves the entries of an LDIF file, for the demo and for trying what goes wrong.

It signs in one account, answers searches page by page, speaks TLS with a certificate of its own, and does on demand what real
servers do on bad days. It changes nothing.
"""

import re
import socketserver
import ssl
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any, ClassVar

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from yardgate.core.model.directory import dn_parts, same_dn, within_dn
from yardgate.formats.ldif import LdifEntry

BerPart = tuple[int, bytes]  # tag and value of a BER element
PAGED = "1.2.840.113556.1.4.319"
START_TLS = "1.3.6.1.4.1.1466.20037"
SUCCESS, OPERATIONS_ERROR, SIZE_LIMIT, STRONGER_AUTH, UNAVAILABLE_CRITICAL = 0, 1, 4, 8, 12
NO_SUCH_OBJECT, INVALID_CREDENTIALS, UNWILLING = 32, 49, 53


@dataclass
class DirectoryFaults:
    """What the server does wrong. after: pages that it gives before."""

    after: int = 0
    hang_up: bool = False  # end the connection
    slow: float = 0  # seconds before each answer
    size_limit: int | None = None  # entries, and then no more
    no_paging: bool = False
    referral: bool = False  # among the entries, one that points to another server
    clock: timedelta = timedelta()  # how far its clock is off
    locked: bool = False  # the reading account
    most_values: int | None = (
        None  # of one attribute in one answer, the rest asked for by range (MS-ADTS 3.1.1.3.1.3.3)
    )


def certificate(folder: Path, name: str, days: int = 3650) -> tuple[Path, Path]:
    """A certificate signed by itself, and its key, made in a folder where they are not there yet. days: until it expires."""
    cert, key = folder / "certificate.pem", folder / "key.pem"
    if cert.exists() and key.exists():
        return cert, key
    private = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    try:
        names: list[x509.GeneralName] = [x509.IPAddress(ip_address(name))]
    except ValueError:
        names = [x509.DNSName(name)]
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=max(1, 1 - days)))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(private, hashes.SHA256())
    )
    folder.mkdir(parents=True, exist_ok=True)
    key.touch(0o600)
    key.write_bytes(
        private.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    )
    cert.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return cert, key


def fingerprint(folder: Path, name: str) -> str:
    """SHA-256 of the certificate in a folder, which is made where there is none."""
    cert, _ = certificate(folder, name)
    return x509.load_pem_x509_certificate(cert.read_bytes()).fingerprint(hashes.SHA256()).hex()


class SimulatedDirectory(socketserver.ThreadingTCPServer):
    """The server. entries: what it holds; may be replaced while it runs."""

    allow_reuse_address = True
    daemon_threads = True
    reader: ClassVar[str] = "reader@lanternquay.example"
    password: ClassVar[str] = "quay-reader"

    def __init__(
        self,
        entries: Sequence[LdifEntry],
        folder: Path,
        *,
        port: int = 0,
        tls: bool = True,
        name: str = "127.0.0.1",
        days: int = 3650,
    ):
        self.entries = list(entries)
        self.faults = DirectoryFaults()
        cert, key = certificate(folder, name, days)
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.load_cert_chain(cert, key)
        self.fingerprint = fingerprint(folder, name)
        self.tls = tls
        super().__init__(("127.0.0.1", port), _Connection)

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    @contextmanager
    def running(self) -> "Iterator[SimulatedDirectory]":
        thread = threading.Thread(target=self.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
        thread.start()
        try:
            yield self
        finally:
            self.shutdown()
            self.server_close()

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A client that hangs up in the middle is nothing to tell."""


class _HungUp(Exception):
    pass


class _Connection(socketserver.BaseRequestHandler):
    server: SimulatedDirectory

    def handle(self) -> None:
        self.socket = self.request
        self.bound = False
        self.secured = self.server.tls
        self.pages = 0
        self.found: Sequence[LdifEntry] = ()
        buffer = b""
        with suppress(_HungUp, OSError):
            if self.server.tls:
                self.socket = self.server.context.wrap_socket(self.socket, server_side=True)
            while chunk := self.socket.recv(65536):
                buffer += chunk
                while (size := _whole(buffer)) is not None:
                    message, buffer = buffer[:size], buffer[size:]
                    self.answer(message)

    def answer(self, message: bytes) -> None:
        """One LDAPMessage (RFC 4511 section 4.1.1)."""
        (_, body), *_ = _parts(message)
        number, (kind, request), *controls = _parts(body)
        said = _integer(number[1])
        if self.server.faults.slow:
            time.sleep(self.server.faults.slow)
        if kind == UNBIND:
            raise _HungUp
        if kind == BIND:
            self.done(said, BIND_RESPONSE, *self.bind(request))
        elif kind == EXTENDED:
            self.extended(said, _parts(request)[0][1].decode("ascii", "replace"))
        elif kind == SEARCH:
            paged = [_parts(control) for _, control in (_parts(controls[0][1]) if controls else [])]
            asked = next((_parts(_parts(parts[-1][1])[0][1]) for parts in paged if parts[0][1] == PAGED.encode()), None)
            self.search(said, _parts(request), None if asked is None else (_integer(asked[0][1]), asked[1][1]))
        elif kind != ABANDON:
            self.done(said, SEARCH_DONE, UNWILLING, "this server only reads")

    def bind(self, request: bytes) -> tuple[int, str]:
        _, (_, name), (_, password) = _parts(request)
        if not name and not password:
            self.bound = False
            return SUCCESS, ""
        if not self.secured:
            return STRONGER_AUTH, "BindSimple: Transport encryption required."
        good = (name, password) == (self.server.reader.encode(), self.server.password.encode())
        self.bound = good and not self.server.faults.locked
        data = "775" if self.server.faults.locked else "52e"
        return (
            (SUCCESS, "") if self.bound else (INVALID_CREDENTIALS, f"AcceptSecurityContext error, data {data}, v1db1")
        )

    def extended(self, number: int, name: str) -> None:
        if name != START_TLS or self.secured:
            self.done(number, EXTENDED_RESPONSE, UNWILLING, "not known here")
            return
        self.done(number, EXTENDED_RESPONSE, SUCCESS, "")
        self.socket = self.server.context.wrap_socket(self.socket, server_side=True)
        self.secured = True

    def search(self, number: int, request: Sequence[BerPart], paged: tuple[int, bytes] | None) -> None:
        faults = self.server.faults
        base, scope, _, _, _, _, condition, attributes = request
        dn = base[1].decode("utf-8", "replace")
        wanted = [name.decode("ascii", "replace").lower() for _, name in _parts(attributes[1])]
        if not dn and _integer(scope[1]) == 0:
            self.entry(number, self.root(), wanted)
            self.done(number, SEARCH_DONE, SUCCESS, "")
            return
        if not self.bound:
            self.done(number, SEARCH_DONE, OPERATIONS_ERROR, "Operation unavailable without authentication")
            return
        if paged is None or not paged[1]:  # a cookie asks for more of what the search before found
            alone = _integer(scope[1]) == 0
            inside = [
                e for e in self.server.entries if (same_dn(e.dn) == same_dn(dn) if alone else within_dn(e.dn, dn))
            ]
            if not any(same_dn(entry.dn) == same_dn(dn) for entry in inside):
                self.done(number, SEARCH_DONE, NO_SUCH_OBJECT, "")
                return
            self.found = [entry for entry in inside if _matches(condition, entry)]
        found = self.found
        if paged is not None and faults.no_paging:
            self.done(number, SEARCH_DONE, UNAVAILABLE_CRITICAL, "")
            return
        size, start = len(found), 0
        if paged is not None:
            size, start = paged[0], int(paged[1] or b"0")
            if faults.hang_up and self.pages >= faults.after:
                raise _HungUp
            self.pages += 1
        most = size if faults.size_limit is None else min(size, faults.size_limit)
        for entry in found[start : start + most]:
            self.entry(number, entry, wanted)
        if faults.referral:
            self.send(number, _tlv(SEARCH_REFERENCE, _tlv(OCTETS, b"ldap://elsewhere.example/DC=elsewhere")))
        if faults.size_limit is not None and len(found) > most:
            self.done(number, SEARCH_DONE, SIZE_LIMIT, "")
            return
        following = str(start + size).encode() if start + size < len(found) else b""
        self.done(number, SEARCH_DONE, SUCCESS, "", following if paged is not None else None)

    def root(self) -> LdifEntry:
        now = datetime.now(UTC) + self.server.faults.clock
        top = next((entry.dn for entry in self.server.entries), "")
        numbers = (int(value) for entry in self.server.entries for value in entry.attributes.get("usnchanged", ()))
        said = {
            "namingcontexts": top,
            "currenttime": f"{now:%Y%m%d%H%M%S}.0Z",
            "highestcommittedusn": str(max(numbers, default=0)),
            "dsservicename": "CN=NTDS Settings,CN=STAND-IN",
            "supportedcontrol": PAGED,
        }
        return LdifEntry("", {name: (value.encode(),) for name, value in said.items()})

    def entry(self, number: int, entry: LdifEntry, wanted: Sequence[str]) -> None:
        everything = not wanted or "*" in wanted
        starts = {name.partition(";range=")[0]: name.partition(";range=")[2] for name in wanted}
        kept = b""
        for attribute, all_values in entry.attributes.items():
            if not everything and attribute not in starts:
                continue
            name, values = self.ranged(attribute, all_values, int(starts.get(attribute, "").partition("-")[0] or 0))
            kept += _tlv(SEQUENCE, _tlv(OCTETS, name.encode()) + _tlv(SET, b"".join(_tlv(OCTETS, v) for v in values)))
        self.send(number, _tlv(SEARCH_ENTRY, _tlv(OCTETS, entry.dn.encode()) + _tlv(SEQUENCE, kept)))

    def ranged(self, name: str, values: Sequence[bytes], start: int) -> tuple[str, Sequence[bytes]]:
        """An attribute as it is sent: whole, or a part with the range that it is."""
        most = self.server.faults.most_values
        if most is None or len(values) <= most:
            return name, values
        part = values[start : start + most]
        last = "*" if start + most >= len(values) else str(start + len(part) - 1)
        return f"{name};range={start}-{last}", part

    def done(self, number: int, kind: int, code: int, text: str, cookie: bytes | None = None) -> None:
        """An LDAPResult (RFC 4511 section 4.1.9), with the cookie of the next page (RFC 2696)."""
        result = _tlv(kind, _tlv(ENUMERATED, bytes((code,))) + _tlv(OCTETS, b"") + _tlv(OCTETS, text.encode()))
        if cookie is not None:
            value = _tlv(SEQUENCE, _tlv(INTEGER, b"\0") + _tlv(OCTETS, cookie))
            result += _tlv(CONTROLS, _tlv(SEQUENCE, _tlv(OCTETS, PAGED.encode()) + _tlv(OCTETS, value)))
        self.send(number, result)

    def send(self, number: int, operation: bytes) -> None:
        self.socket.sendall(_tlv(SEQUENCE, _tlv(INTEGER, number.to_bytes(5, "big")) + operation))


# --- BER, as much as LDAP uses of it (X.690; RFC 4511 section 5.1) ------------------------------------------------------

INTEGER, OCTETS, ENUMERATED, SEQUENCE, SET = 0x02, 0x04, 0x0A, 0x30, 0x31
BIND, BIND_RESPONSE, UNBIND, SEARCH, SEARCH_ENTRY, SEARCH_DONE = 0x60, 0x61, 0x42, 0x63, 0x64, 0x65
ABANDON, SEARCH_REFERENCE, EXTENDED, EXTENDED_RESPONSE, CONTROLS = 0x50, 0x73, 0x77, 0x78, 0xA0
AND, OR, NOT, EQUAL, SUBSTRINGS, AT_LEAST, AT_MOST, PRESENT = 0xA0, 0xA1, 0xA2, 0xA3, 0xA4, 0xA5, 0xA6, 0x87


def _whole(buffer: bytes) -> int | None:
    """How many bytes the first element takes, or None while it is not all there."""
    if len(buffer) < 2:
        return None
    length = buffer[1] & 0x7F if buffer[1] & 0x80 else 0
    if len(buffer) < 2 + length:
        return None
    size = 2 + length + (int.from_bytes(buffer[2 : 2 + length], "big") if length else buffer[1])
    return size if len(buffer) >= size else None


def _parts(data: bytes) -> list[BerPart]:
    """The elements that some bytes hold, one after the other."""
    found = []
    while data:
        size = _whole(data)
        if size is None:
            raise _HungUp
        start = 2 + (data[1] & 0x7F if data[1] & 0x80 else 0)
        found.append((data[0], data[start:size]))
        data = data[size:]
    return found


def _tlv(tag: int, value: bytes) -> bytes:
    if len(value) < 0x80:
        return bytes((tag, len(value))) + value
    length = len(value).to_bytes(4, "big").lstrip(b"\0")
    return bytes((tag, 0x80 | len(length))) + length + value


def _integer(value: bytes) -> int:
    return int.from_bytes(value, "big", signed=True)


# --- filters ------------------------------------------------------------------------------------------------------------


def _matches(condition: BerPart, entry: LdifEntry) -> bool:
    """Whether an entry is what a filter asks for (RFC 4511 4.5.1.7); values compare in any case, numbers as numbers."""
    kind, body = condition
    if kind == PRESENT:
        return body.decode("ascii", "replace").lower() in ("objectclass", *entry.attributes)
    parts = _parts(body)
    if kind == AND:
        return all(_matches(part, entry) for part in parts)
    if kind == OR:
        return any(_matches(part, entry) for part in parts)
    if kind == NOT:
        return not _matches(parts[0], entry)
    values = entry.attributes.get(parts[0][1].decode("ascii", "replace").lower(), ())
    if kind == EQUAL:
        return any(_same(value, parts[1][1]) for value in values)
    if kind == SUBSTRINGS:
        pattern = _pattern(_parts(parts[1][1]))
        return any(pattern.fullmatch(value.decode("utf-8", "replace").casefold()) for value in values)
    signs = [_order(value, parts[1][1]) for value in values]
    return any(sign >= 0 if kind == AT_LEAST else sign <= 0 for sign in signs) if kind in (AT_LEAST, AT_MOST) else False


def _same(value: bytes, asked: bytes) -> bool:
    mine, theirs = value.decode("utf-8", "replace").casefold(), asked.decode("utf-8", "replace").casefold()
    if mine == theirs:
        return True
    if "=" in mine:  # an object category is asked for by its short name (MS-ADTS 3.1.1.3.1.3.5)
        with suppress(ValueError):
            return dn_parts(value.decode("utf-8", "replace"))[0][1].casefold() == theirs
    return False


def _order(value: bytes, asked: bytes) -> int:
    if value.lstrip(b"-").isdigit() and asked.lstrip(b"-").isdigit():
        return int(value) - int(asked)
    return (value > asked) - (value < asked)


def _pattern(parts: Sequence[BerPart]) -> "re.Pattern[str]":
    """Substrings: [0] at the beginning, [1] anywhere, [2] at the end."""
    text = "".join(
        ("" if tag == 0x80 else ".*") + re.escape(v.decode("utf-8", "replace").casefold()) for tag, v in parts
    )
    return re.compile(text + ("" if parts[-1][0] == 0x82 else ".*"), re.DOTALL)
