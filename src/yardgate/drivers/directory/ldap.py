"""Reading a directory over LDAP (RFC 4511), step by step, each step saying in words what failed.

The connection is made by ldap3; referrals are not followed, names reach the server only as distinguished names or escaped
filter values (RFC 4515 section 3), and the password is handed over once and not kept here.
"""

import hashlib
import re
import socket
import ssl
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from itertools import accumulate
from typing import Any

import ldap3
from ldap3.core.exceptions import LDAPException, LDAPExceptionError, LDAPInvalidFilterError

from yardgate.core.model.directory import AccountRecord, Copy, Directory, same_dn
from yardgate.drivers.directory.accounts import SHAPES, Shape, key_of, record_of
from yardgate.drivers.directory.progress import Certificate, DirectoryError, Passed, Progress, ProgressStep
from yardgate.formats.ldif import LdifEntry

PAGE = 500
CONNECT_SECONDS, ANSWER_SECONDS = 5, 60
CLOCK_SECONDS = 300  # Kerberos lets clocks differ by five minutes (RFC 4120 section 8.2)
LATE = timedelta(minutes=10)  # how late a replica may show a change
PROGRESS_EVERY = 50  # accounts asked for one by one

# Active-Directory-compatible servers say in the message of result 49 what was wrong (MS-ERREF 2.2).
_SIGN_IN_WORDS = {
    "525": "there is no such account",
    "52e": "the name or the password is wrong",
    "530": "this account may not sign in at this hour",
    "531": "this account may not sign in from here",
    "532": "its password has expired",
    "533": "this account is disabled",
    "701": "this account has expired",
    "773": "its password must be changed first",
    "775": "this account is locked",
}


# --- finding and connecting -------------------------------------------------------------------------------------------


def controllers(directory: Directory) -> Sequence[tuple[str, int]]:
    """(host, port) to try, best first: the one typed, or those of the domain's SRV records (RFC 2782). Raises DirectoryError."""
    port = 636 if directory.security == "ldaps" else 389
    if directory.controller:
        host, given = _host_and_port(directory.controller)
        return [(host, given or port)]
    import dns.resolver  # slow to load, and only needed where no controller is typed

    asked = [f"_ldap._tcp.dc._msdcs.{directory.domain}", f"_ldap._tcp.{directory.domain}"]
    for name in asked if directory.schema == "ad" else asked[1:]:
        try:
            answer = dns.resolver.resolve(name, "SRV", lifetime=CONNECT_SECONDS, search=False)
        except (dns.resolver.NXDOMAIN, dns.resolver.NoAnswer):
            continue
        except dns.exception.DNSException as error:
            raise DirectoryError(
                "controller",
                f"the name servers do not answer for {directory.domain}: {type(error).__name__}. Type the controller's name instead, or see to name resolution.",
            ) from None
        found = sorted(
            (record.priority, -record.weight, str(record.target).rstrip("."), record.port) for record in answer
        )
        return [(host, 636 if directory.security == "ldaps" else given) for _, _, host, given in found]
    raise DirectoryError(
        "controller",
        f"{directory.domain} has no SRV record for LDAP. Is the name right? Does this machine ask the domain's name servers? You can also type the controller's name.",
    )


def _host_and_port(text: str) -> tuple[str, int | None]:
    found = re.fullmatch(r"(?:\[([0-9A-Fa-f:.]+)\]|([^:\[\]/\s]+))(?::(\d{1,5}))?", text.strip())
    if found is None:
        raise DirectoryError("controller", f"{text[:60]!r} is not a host name or address, with or without :port")
    return found[1] or found[2], int(found[3]) if found[3] else None


def certificate(directory: Directory) -> Certificate | None:
    """The certificate of the controller, whether it is trusted or not; None where there is to be no TLS. Raises DirectoryError."""
    if directory.security == "plain":
        return None
    host, port = _reachable(directory)
    raw = _shown_certificate(directory, host, port, verify=False)
    assert isinstance(raw, bytes)
    distrust = _shown_certificate(directory, host, port, verify=True)
    return Certificate(hashlib.sha256(raw).hexdigest(), distrust if isinstance(distrust, str) else None)


def _shown_certificate(directory: Directory, host: str, port: int, *, verify: bool) -> bytes | str:
    """The certificate's bytes, or, where it is verified and does not pass, why."""
    context = ssl.create_default_context()
    if not verify:
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        with socket.create_connection((host, port), CONNECT_SECONDS) as plain:
            plain.settimeout(CONNECT_SECONDS)
            if directory.security == "starttls":
                _start_tls(plain)
            with context.wrap_socket(plain, server_hostname=host) as secured:
                return secured.getpeercert(binary_form=True) or b""
    except ssl.SSLCertVerificationError as error:
        return _distrust_words(error)
    except (OSError, ValueError) as error:
        raise DirectoryError("tls", f"no TLS with {host}:{port}: {_os_words(error)}") from None


START_TLS = bytes.fromhex("301d02010177188016") + b"1.3.6.1.4.1.1466.20037"  # RFC 4511 4.14.1, as one message


def _start_tls(plain: socket.socket) -> None:
    plain.sendall(START_TLS)
    answer = plain.recv(4096)
    # LDAPMessage { 1, ExtendedResponse { resultCode success ... } }
    if b"\x0a\x01\x00" not in answer[:16]:
        raise ValueError("the server does not take StartTLS")


def _distrust_words(error: ssl.SSLCertVerificationError) -> str:
    words = {
        9: "is not valid yet",
        10: "has expired",
        18: "is signed by itself",
        19: "comes from an authority that this system does not trust",
        20: "comes from an authority that this system does not trust",
        21: "comes from an authority that this system does not trust",
        62: "is for another name",
        64: "is for another address",
    }
    return words.get(error.verify_code, f"is not trusted: {error.verify_message}")


def _reachable(directory: Directory) -> tuple[str, int]:
    """The first controller that takes a connection. Raises DirectoryError of the first that does not."""
    first: DirectoryError | None = None
    for host, port in controllers(directory):
        try:
            socket.create_connection((host, port), CONNECT_SECONDS).close()
            return host, port
        except socket.gaierror:
            first = first or DirectoryError(
                "controller", f"the name {host} cannot be resolved. Check the spelling, or this machine's name servers."
            )
        except OSError as error:
            first = first or DirectoryError(
                "port",
                f"{host} does not take connections on port {port}: {_os_words(error)}. Is the server up? Does a firewall stand between?",
            )
    assert first is not None
    raise first


def _os_words(error: BaseException) -> str:
    if isinstance(error, TimeoutError):
        return "no answer in time"
    if isinstance(error, ConnectionRefusedError):
        return "refused"
    if isinstance(error, ConnectionResetError):
        return "it hung up"
    text = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return text or type(error).__name__


@contextmanager
def connect(directory: Directory, password: str | None) -> "Iterator[DirectoryReader]":
    """Find a controller, connect, check its certificate and sign in. Raises DirectoryError."""
    reader = DirectoryReader(directory)
    try:
        reader.open()
        reader.sign_in(password)
        yield reader
    finally:
        reader.close()


class DirectoryReader:
    """An open connection to a directory. Every method raises DirectoryError."""

    def __init__(self, directory: Directory):
        self.directory = directory
        self.shape: Shape = SHAPES[directory.schema]
        self.connection: Any = None
        self.host, self.port = "", 0
        self.newest = b""  # the latest modifyTimestamp seen (RFC 4512 3.4.4)

    def open(self) -> None:
        """Connect; where TLS is asked for, go on only if the certificate is the pinned one or the system trusts it."""
        directory = self.directory
        self.host, self.port = _reachable(directory)
        if directory.security == "plain" and not directory.plain_agreed:
            raise DirectoryError(
                "tls", "without TLS the password would be sent readable; that has to be agreed to first"
            )
        self._check_certificate()
        tls = ldap3.Tls(validate=ssl.CERT_NONE if directory.fingerprint else ssl.CERT_REQUIRED)
        server = ldap3.Server(
            self.host,
            self.port,
            use_ssl=directory.security == "ldaps",
            tls=tls,
            get_info=ldap3.NONE,
            connect_timeout=CONNECT_SECONDS,
        )
        user = directory.reader or None
        self.connection = ldap3.Connection(
            server,
            user,
            authentication=ldap3.ANONYMOUS if user is None else ldap3.SIMPLE,
            password="-" if user else None,
            client_strategy=ldap3.SYNC,
            auto_referrals=False,
            auto_range=False,
            receive_timeout=ANSWER_SECONDS,
            check_names=False,
            return_empty_attributes=False,
            read_only=True,
        )
        with self._said("tls" if directory.security != "plain" else "port"):
            self.connection.open(read_server_info=False)
            if directory.security == "starttls" and not self.connection.start_tls(read_server_info=False):
                raise DirectoryError("tls", f"{self.host} does not take StartTLS: {self._result()}")
        if directory.fingerprint:
            raw = self.connection.socket.getpeercert(binary_form=True) if directory.security != "plain" else None
            if raw is not None and hashlib.sha256(raw).hexdigest() != directory.fingerprint:
                raise DirectoryError("tls", f"{self.host} shows another certificate than the one that was accepted")

    def _check_certificate(self) -> None:
        """Say in words what is wrong with a certificate before anything else is tried."""
        directory = self.directory
        if directory.security == "plain":
            return
        shown = _shown_certificate(directory, self.host, self.port, verify=directory.fingerprint is None)
        if isinstance(shown, str):
            raise DirectoryError(
                "tls",
                f"the certificate of {self.host} {shown}. Look at its fingerprint and accept it only if it is the one that the server's administrator names.",
            )
        if directory.fingerprint and hashlib.sha256(shown).hexdigest() != directory.fingerprint:
            raise DirectoryError(
                "tls",
                f"{self.host} shows another certificate than the one that was accepted. If it was renewed, compare fingerprints with the server's administrator and accept the new one.",
            )

    def sign_in(self, password: str | None) -> None:
        """Bind as the reading account; without one, anonymously."""
        if not self.directory.reader:
            with self._said("sign-in"):
                if not self.connection.bind(read_server_info=False):
                    raise DirectoryError(
                        "sign-in", f"the directory lets nobody read without an account: {self._result()}"
                    )
            return
        if not password:
            # RFC 4513 5.1.2: a name with an empty password signs in as nobody and looks like success.
            raise DirectoryError("sign-in", f"the password of {self.directory.reader} is not known here; give it again")
        with self._said("sign-in"):
            self.connection.password = password
            try:
                signed_in = self.connection.bind(read_server_info=False)
            finally:
                self.connection.password = "-"
        if not signed_in:
            result = self.connection.result
            code = re.search(r"data ([0-9a-f]{3})", result.get("message") or "")
            if result["result"] == 8:
                words = "the server takes passwords only over TLS; choose LDAPS or StartTLS"
            elif result["result"] == 49:
                words = _SIGN_IN_WORDS.get(code[1] if code else "52e", "the name or the password is wrong")
            else:
                words = self._result()
            raise DirectoryError("sign-in", f"{self.directory.reader} cannot sign in: {words}")

    def close(self) -> None:
        if self.connection is not None:
            with suppress(LDAPException, OSError):  # it is being given up anyway
                self.connection.unbind()
            self.connection = None

    # --- asking ---

    def root(self) -> Mapping[str, tuple[bytes, ...]]:
        """What the server says of itself (RFC 4512 5.1)."""
        with self._said("base"):
            self.connection.search("", "(objectClass=*)", ldap3.BASE, attributes=["*", "+"])
        return next((entry.attributes for entry in self._entries()), {})

    def pages(self, base: str, condition: str, attributes: Sequence[str]) -> Iterator[list[LdifEntry]]:
        """All entries below `base`, page by page (RFC 2696)."""
        cookie: bytes | None = None
        while True:
            with self._said("read"):
                try:
                    self.connection.search(
                        base,
                        condition,
                        ldap3.SUBTREE,
                        attributes=list(attributes),
                        paged_size=PAGE,
                        paged_cookie=cookie,
                        paged_criticality=True,
                    )
                except LDAPInvalidFilterError:
                    raise DirectoryError(
                        "read", f"the filter {self.directory.filter!r} cannot be understood (RFC 4515)"
                    ) from None
            self._good(base)
            yield list(self._entries())
            cookie = self._cookie()
            if not cookie:
                return

    def one(self, dn: str, attributes: Sequence[str]) -> LdifEntry | None:
        """One entry by its name; None where it is not there."""
        with self._said("read"):
            self.connection.search(dn, "(objectClass=*)", ldap3.BASE, attributes=list(attributes))
        return next(self._entries(), None)

    def whole(self, entry: LdifEntry) -> LdifEntry:
        """An entry with all values of attributes that the server gives in ranges only (MS-ADTS 3.1.1.3.1.3.3)."""
        attributes = dict(entry.attributes)
        for ranged in [name for name in attributes if ";range=" in name]:
            name, _, span = ranged.partition(";range=")
            values = list(attributes.pop(ranged))
            while not span.endswith("*"):
                start = int(span.partition("-")[2]) + 1
                more = self.one(entry.dn, [f"{name};range={start}-*"])
                part = next(
                    (
                        (n, v)
                        for n, v in (more.attributes if more else {}).items()
                        if n.startswith(f"{name};range={start}-")
                    ),
                    None,
                )
                if part is None:
                    raise DirectoryError(
                        "read", f"{entry.dn} has too many members to read: the server stopped after {len(values)}"
                    )
                span = part[0].partition(";range=")[2]
                values += part[1]
            attributes[name] = tuple(values)
        return LdifEntry(entry.dn, attributes)

    def _entries(self) -> Iterator[LdifEntry]:
        """What a search gave; references to other servers are passed over."""
        for found in self.connection.response or ():
            if found["type"] == "searchResEntry":
                attributes = {name.lower(): tuple(values) for name, values in found["raw_attributes"].items() if values}
                self.newest = max(self.newest, *attributes.get("modifytimestamp", ()), b"")
                yield LdifEntry(found["dn"], attributes)

    def _cookie(self) -> bytes | None:
        control = (self.connection.result.get("controls") or {}).get("1.2.840.113556.1.4.319")
        return control["value"]["cookie"] if control else None

    def _good(self, base: str) -> None:
        code = self.connection.result["result"]
        if code == 0:
            return
        words = {
            4: "the server ends its answers after a number of entries and does not page; let the reading account read more, or choose branches",
            3: "the server ended the search because it took too long",
            10: f"{base} lies on another server, and references are not followed; choose a base that this server has",
            12: "the server does not give its answer in pages, and a large directory cannot be read without",
            32: f"there is nothing at {base}",
            50: "the reading account has no right to read there",
        }.get(code, self._result())
        step: ProgressStep = {12: "paging", 4: "paging", 32: "base", 10: "base"}.get(code, "read")  # type: ignore[assignment]
        raise DirectoryError(step, words)

    def _result(self) -> str:
        result = self.connection.result or {}
        said = (result.get("message") or "").strip("\0 ")
        return f"{result.get('description', 'no answer')} ({result.get('result')})" + (
            f": {said[:200]}" if said else ""
        )

    @contextmanager
    def _said(self, step: ProgressStep) -> Iterator[None]:
        try:
            yield
        except (LDAPExceptionError, OSError) as error:
            words = (
                "the connection broke off"
                if self.connection is None or self.connection.closed
                else _library_words(error)
            )
            raise DirectoryError(step, f"{self.host}: {words}. What was read so far is not used; try again.") from None


def _library_words(error: BaseException) -> str:
    text = str(error)
    if "timed out" in text or "timeout" in text.lower():
        return "no answer in time"
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return "the connection broke off" if "socket" in text.lower() else f"{type(error).__name__}: {text[:200]}"


# --- reading ----------------------------------------------------------------------------------------------------------


def check(directory: Directory, password: str | None) -> Iterator[Passed]:
    """Every step of reading, tried one after the other. Raises DirectoryError at the first that fails."""
    found = controllers(directory)
    yield Passed(
        "controller", f"{found[0][0]}, port {found[0][1]}" + (f", and {len(found) - 1} more" if len(found) > 1 else "")
    )
    host, port = _reachable(directory)
    yield Passed("port", f"{host} takes connections on port {port}")
    reader = DirectoryReader(directory)
    try:
        reader.open()
        secured = {"plain": "no TLS, as agreed", "ldaps": "LDAPS", "starttls": "StartTLS"}[directory.security]
        yield Passed(
            "tls",
            secured
            + (
                ", the certificate that was accepted"
                if directory.fingerprint
                else ""
                if directory.security == "plain"
                else ", the certificate is trusted"
            ),
        )
        reader.sign_in(password)
        yield Passed(
            "sign-in", f"signed in as {directory.reader}" if directory.reader else "reading without an account"
        )
        root = reader.root()
        yield Passed("clock", _clock(root))
        for base in directory.takes_branches:
            _look_at(reader, root, base)
        yield Passed("base", ", ".join(directory.takes_branches))
        first = next(reader.pages(directory.takes_branches[0], _condition(directory), reader.shape.attributes), [])
        records = [record for entry in first if (record := record_of(directory.schema, entry)) is not None]
        if not records:
            raise DirectoryError(
                "read",
                f"there are no accounts to be seen below {directory.takes_branches[0]}. Is the kind of directory right, may the reading account read there?",
            )
        yield Passed("read", f"{records[0].name} and others can be read")
        yield Passed("paging", f"answers come in pages of {PAGE}")
    finally:
        reader.close()


def _clock(root: Mapping[str, tuple[bytes, ...]]) -> str:
    said = root.get("currenttime", (b"",))[0].decode("ascii", "replace")
    if not said:
        return "the server does not tell its time"
    theirs = datetime.strptime(said[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    apart = abs((datetime.now(UTC) - theirs).total_seconds())
    if apart > CLOCK_SECONDS:
        raise DirectoryError(
            "clock",
            f"the clocks differ by {apart / 60:.0f} minutes; more than five, and nobody can sign in to the domain from here. Set this machine's clock by the domain's.",
        )
    return f"the clocks differ by {apart:.0f} s"


def _look_at(reader: DirectoryReader, root: Mapping[str, tuple[bytes, ...]], base: str) -> None:
    if reader.one(base, ["1.1"]) is None:
        reader._good(base)
        has = [value.decode("utf-8", "replace") for value in root.get("namingcontexts", ())]
        raise DirectoryError(
            "base",
            f"there is nothing to be seen at {base}." + (f" This server has {', '.join(has[:4])}." if has else ""),
        )


def _condition(directory: Directory) -> str:
    """The schema's filter, and the directory's own with it. Raises DirectoryError where that is not one whole filter."""
    own, shape = directory.filter.strip(), SHAPES[directory.schema].filter
    if not own:
        return shape
    whole = own if own.startswith("(") else f"({own})"
    depths = list(accumulate({"(": 1, ")": -1}.get(char, 0) for char in whole))
    if 0 in depths[:-1] or depths[-1] != 0:
        raise DirectoryError(
            "read", f"the filter {own!r} cannot be understood (RFC 4515): it must be one, its brackets closed"
        )
    return f"(&{shape}{whole})"


def read_all(reader: DirectoryReader, progress: Progress) -> Copy:
    """Everything that comes in."""
    usn = _usn(reader)
    records: dict[str, AccountRecord] = {}
    for branch in reader.directory.takes_branches:
        for page in reader.pages(branch, _condition(reader.directory), reader.shape.attributes):
            records |= _records(reader, page)
            progress.at("reading accounts", len(records))
    return Copy(records, usn or _newest(reader), _now(), True)


def read_changes(reader: DirectoryReader, before: Copy, progress: Progress) -> Copy:
    """What `read_all` would give, with only what has changed since `before` read in full; `read_all` where that cannot be told.

    Names and keys of all accounts are read each time: that tells who is gone, and who was moved along with a branch.
    """
    usn = _usn(reader)
    since = _since(before.marker, usn)
    if since is None:
        return read_all(reader, progress)
    directory, key = reader.directory, reader.shape.key
    there: dict[str, str] = {}
    changed: dict[str, AccountRecord] = {}
    for branch in directory.takes_branches:
        for page in reader.pages(branch, _condition(directory), [key]):
            there |= {found: entry.dn for entry in page if (found := key_of(directory.schema, entry)) is not None}
            progress.at("looking who is there", len(there))
    for branch in directory.takes_branches:
        for page in reader.pages(branch, f"(&{_condition(directory)}{since})", reader.shape.attributes):
            changed |= _records(reader, page)
            progress.at("reading changes", len(changed))
    same = {found for found, dn in there.items() if found in before.records and before.records[found].dn == dn}
    missing = there.keys() - changed.keys() - same
    # Where a member was renamed, moved or deleted, its group names it otherwise and yet does not count as changed.
    settled = {same_dn(there[found]) for found in same}
    missing |= {
        found
        for found in same - changed.keys()
        if any(ref.by == "dn" and same_dn(ref.text) not in settled for ref in before.records[found].members)
    }
    for number, found in enumerate(sorted(missing), 1):
        entry = reader.one(there[found], reader.shape.attributes)
        changed |= _records(reader, [entry] if entry is not None else [])
        if number % PROGRESS_EVERY == 0:
            progress.at("reading changes", len(changed))
    kept = {found: record for found, record in before.records.items() if found in there}
    return Copy({**kept, **changed}, usn or _newest(reader) or before.marker, _now(), False)


def _records(reader: DirectoryReader, entries: Iterable[LdifEntry]) -> dict[str, AccountRecord]:
    found = (record_of(reader.directory.schema, reader.whole(entry)) for entry in entries)
    return {record.key: record for record in found if record is not None}


def _usn(reader: DirectoryReader) -> str | None:
    """Where a controller stands: which one it is, and its update sequence number (MS-ADTS 3.1.1.1.9). None for other servers."""
    if reader.directory.schema != "ad":
        return None
    root = reader.root()
    service, usn = root.get("dsservicename"), root.get("highestcommittedusn")
    return f"usn {usn[0].decode()} {service[0].decode()}" if service and usn else None


def _newest(reader: DirectoryReader) -> str | None:
    return f"time {reader.newest.decode('ascii', 'replace')}" if reader.newest else None


def _since(before: str | None, usn: str | None) -> str | None:
    """The condition for what has changed since a marker; None where that cannot be told."""
    kind, _, rest = (before or "").partition(" ")
    if kind == "usn" and usn is not None:
        number, _, service = rest.partition(" ")
        _, current, present = usn.split(maxsplit=2)
        # The numbers are a controller's own; where they are lower than before, it was put back to an earlier state.
        return f"(uSNChanged>={int(number) + 1})" if service == present and int(current) >= int(number) else None
    if kind == "time" and (stamp := re.match(r"\d{14}", rest)):
        then = datetime.strptime(stamp[0], "%Y%m%d%H%M%S") - LATE
        return f"(modifyTimestamp>={then:%Y%m%d%H%M%S}Z)"
    return None


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
