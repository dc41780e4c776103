"""A small simulated LDAP server (RFC 4511) that serves the entries of an LDIF file, for the demo and for trying what goes wrong.

It signs in one account, answers searches page by page, speaks TLS with a certificate of its own, and does on demand what real
servers do on bad days. It changes nothing.
"""

import re
import socketserver
import ssl
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any, ClassVar

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from ldap3.protocol.rfc2696 import RealSearchControlValue
from ldap3.protocol.rfc4511 import LDAPMessage
from pyasn1.codec.ber import decoder, encoder

from yardgate.core.directory import dn_parts, same_dn, within_dn
from yardgate.formats.ldif import Entry

PAGED = "1.2.840.113556.1.4.319"
START_TLS = "1.3.6.1.4.1.1466.20037"
SUCCESS, OPERATIONS_ERROR, SIZE_LIMIT, STRONGER_AUTH, UNAVAILABLE_CRITICAL = 0, 1, 4, 8, 12
NO_SUCH_OBJECT, INVALID_CREDENTIALS, INSUFFICIENT_ACCESS, UNWILLING = 32, 49, 50, 53


@dataclass
class Faults:
    """What the server does wrong. after: pages that it gives before."""

    after: int = 0
    hang_up: bool = False  # end the connection
    slow: float = 0  # seconds before each answer
    size_limit: int | None = None  # entries, and then no more
    no_paging: bool = False
    referral: bool = False  # among the entries, one that points to another server
    clock: timedelta = timedelta()  # how far its clock is off
    locked: bool = False  # the reading account


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


class StandIn(socketserver.ThreadingTCPServer):
    """The server. entries: what it holds; may be replaced while it runs."""

    allow_reuse_address = True
    daemon_threads = True
    reader: ClassVar[str] = "reader@lanternquay.example"
    password: ClassVar[str] = "quay-reader"

    def __init__(
        self,
        entries: Sequence[Entry],
        folder: Path,
        *,
        port: int = 0,
        tls: bool = True,
        name: str = "127.0.0.1",
        days: int = 3650,
    ):
        self.entries = list(entries)
        self.faults = Faults()
        cert, key = certificate(folder, name, days)
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.load_cert_chain(cert, key)
        self.fingerprint = fingerprint(folder, name)
        self.tls = tls
        super().__init__(("127.0.0.1", port), _Session)

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    @contextmanager
    def running(self) -> "Any":
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


class _Session(socketserver.BaseRequestHandler):
    server: StandIn

    def handle(self) -> None:
        self.socket = self.request
        self.bound = False
        self.secured = self.server.tls
        self.pages = 0
        if self.server.tls:
            self.socket = self.server.context.wrap_socket(self.socket, server_side=True)
        buffer = b""
        with suppress(_HungUp, OSError):
            while chunk := self.socket.recv(65536):
                buffer += chunk
                while (size := _whole(buffer)) is not None:
                    message, buffer = buffer[:size], buffer[size:]
                    self.answer(decoder.decode(message, asn1Spec=LDAPMessage())[0])

    def answer(self, message: Any) -> None:
        number, operation = int(message["messageID"]), message["protocolOp"]
        faults, kind = self.server.faults, operation.getName()
        if faults.slow:
            time.sleep(faults.slow)
        body = operation.getComponent()
        if kind == "unbindRequest":
            raise _HungUp
        if kind == "bindRequest":
            self.send(number, "bindResponse", *self.bind(body))
        elif kind == "extendedReq":
            self.extended(number, str(body["requestName"]))
        elif kind == "searchRequest":
            self.search(number, body, {str(c["controlType"]): c for c in message["controls"] or ()})
        elif kind != "abandonRequest":
            self.send(number, "searchResDone", UNWILLING, "this server only reads")

    def bind(self, body: Any) -> tuple[int, str]:
        name = bytes(body["name"]).decode("utf-8", "replace")
        password = bytes(body["authentication"].getComponent())
        if not name and not password:
            self.bound = False
            return SUCCESS, ""
        if not self.secured:
            return STRONGER_AUTH, "BindSimple: Transport encryption required."
        self.bound = (name, password) == (
            self.server.reader,
            self.server.password.encode(),
        ) and not self.server.faults.locked
        if self.bound:
            return SUCCESS, ""
        data = "775" if self.server.faults.locked else "52e"
        return (
            INVALID_CREDENTIALS,
            f"80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {data}, v1db1",
        )

    def extended(self, number: int, name: str) -> None:
        if name != START_TLS or self.secured:
            self.send(number, "extendedResp", UNWILLING, "not known here")
            return
        self.send(number, "extendedResp", SUCCESS, "")
        self.socket = self.server.context.wrap_socket(self.socket, server_side=True)
        self.secured = True

    def search(self, number: int, body: Any, controls: Mapping[str, Any]) -> None:
        faults = self.server.faults
        base = bytes(body["baseObject"]).decode("utf-8", "replace")
        scope = int(body["scope"])
        wanted = [bytes(name).decode().lower() for name in body["attributes"]]
        if not base and scope == 0:
            self.entry(number, self.root(), wanted)
            self.send(number, "searchResDone", SUCCESS, "")
            return
        if not self.bound:
            self.send(number, "searchResDone", OPERATIONS_ERROR, "Operation unavailable without authentication")
            return
        if not any(same_dn(entry.dn) == same_dn(base) for entry in self.server.entries):
            self.send(number, "searchResDone", NO_SUCH_OBJECT, "")
            return
        inside = [
            e for e in self.server.entries if (same_dn(e.dn) == same_dn(base) if scope == 0 else within_dn(e.dn, base))
        ]
        found = [entry for entry in inside if _matches(body["filter"], entry)]
        control = controls.get(PAGED)
        if control is not None and faults.no_paging:
            self.send(number, "searchResDone", UNAVAILABLE_CRITICAL, "")
            return
        size, start = len(found) or 1, 0
        if control is not None:
            asked, _ = decoder.decode(bytes(control["controlValue"]), asn1Spec=RealSearchControlValue())
            size, start = int(asked["size"]), int(bytes(asked["cookie"]) or b"0")
            if self.pages >= faults.after and faults.hang_up:
                raise _HungUp
            self.pages += 1
        page = found[start : start + size]
        if faults.size_limit is not None:
            page = page[: faults.size_limit]
        for entry in page:
            self.entry(number, entry, wanted)
        if faults.referral:
            self.send_message(
                number,
                "searchResRef",
                lambda part: part.setComponentByPosition(0, b"ldap://elsewhere.example/DC=elsewhere"),
            )
        if faults.size_limit is not None and len(found) > faults.size_limit:
            self.send(number, "searchResDone", SIZE_LIMIT, "")
            return
        following = str(start + size).encode() if start + size < len(found) else b""
        self.send(number, "searchResDone", SUCCESS, "", following if control is not None else None)

    def root(self) -> Entry:
        now = datetime.now(UTC) + self.server.faults.clock
        top = next((entry.dn for entry in self.server.entries), "")
        usn = max(
            (int(value) for entry in self.server.entries for value in entry.attributes.get("usnchanged", ())), default=0
        )
        said = {
            "namingcontexts": top,
            "currenttime": f"{now:%Y%m%d%H%M%S}.0Z",
            "highestcommittedusn": str(usn),
            "dsservicename": "CN=NTDS Settings,CN=STAND-IN",
            "supportedcontrol": PAGED,
        }
        return Entry("", {name: (value.encode(),) for name, value in said.items()})

    def entry(self, number: int, entry: Entry, wanted: Sequence[str]) -> None:
        everything = not wanted or "*" in wanted

        def fill(part: Any) -> None:
            part["object"] = entry.dn.encode()
            kept = [(n, v) for n, v in entry.attributes.items() if everything or n in wanted]
            for at, (name, values) in enumerate(kept):
                part["attributes"][at]["type"] = name
                for value_at, value in enumerate(values):
                    part["attributes"][at]["vals"][value_at] = value
            if not kept:
                part["attributes"].clear()

        self.send_message(number, "searchResEntry", fill)

    def send(self, number: int, kind: str, code: int, text: str, cookie: bytes | None = None) -> None:
        def fill(part: Any) -> None:
            part["resultCode"] = code
            part["matchedDN"] = ""
            part["diagnosticMessage"] = text

        self.send_message(number, kind, fill, cookie)

    def send_message(self, number: int, kind: str, fill: Callable[[Any], object], cookie: bytes | None = None) -> None:
        message = LDAPMessage()
        message["messageID"] = number
        fill(message["protocolOp"][kind])
        if cookie is not None:
            value = RealSearchControlValue()
            value["size"], value["cookie"] = 0, cookie
            control = message["controls"][0]
            control["controlType"], control["controlValue"] = PAGED, encoder.encode(value)
        self.socket.sendall(encoder.encode(message))


def _whole(buffer: bytes) -> int | None:
    """How many bytes the first message takes (X.690 8.1.3), or None while it is not all there."""
    if len(buffer) < 2:
        return None
    if buffer[1] < 0x80:
        size = 2 + buffer[1]
    else:
        length = buffer[1] & 0x7F
        if len(buffer) < 2 + length:
            return None
        size = 2 + length + int.from_bytes(buffer[2 : 2 + length], "big")
    return size if len(buffer) >= size else None


def _matches(condition: Any, entry: Entry) -> bool:
    """Whether an entry is what a filter asks for (RFC 4511 4.5.1.7); values compare in any case, numbers as numbers."""
    kind, body = condition.getName(), condition.getComponent()
    match kind:
        case "and":
            return all(_matches(part, entry) for part in body)
        case "or":
            return any(_matches(part, entry) for part in body)
        case "notFilter":
            return not _matches(body.getComponentByPosition(0), entry)
        case "present":
            return str(body).lower() in ("objectclass", *entry.attributes)
        case "equalityMatch":
            return any(_same(value, bytes(body["assertionValue"])) for value in _values(entry, body["attributeDesc"]))
        case "greaterOrEqual" | "lessOrEqual":
            asked = bytes(body["assertionValue"])
            compared = [_order(value, asked) for value in _values(entry, body["attributeDesc"])]
            return any(sign >= 0 if kind == "greaterOrEqual" else sign <= 0 for sign in compared)
        case "substringFilter":
            pattern = _pattern(body["substrings"])
            return any(
                pattern.fullmatch(value.decode("utf-8", "replace").casefold()) for value in _values(entry, body["type"])
            )
    return False


def _values(entry: Entry, name: Any) -> tuple[bytes, ...]:
    return entry.attributes.get(bytes(name).decode("ascii", "replace").lower(), ())


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


def _pattern(parts: Any) -> "re.Pattern[str]":
    found = ""
    for part in parts:
        text = re.escape(bytes(part.getComponent()).decode("utf-8", "replace").casefold())
        found += {"initial": text, "any": f".*{text}", "final": f".*{text}"}[part.getName()]
    ends = bool(len(parts)) and parts[len(parts) - 1].getName() == "final"
    return re.compile(found + ("" if ends else ".*"), re.DOTALL)
