"""A real LDAP server with its own configuration and data, on loopback."""

import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from yardgate.core.model.directory import Directory, Schema
from yardgate.drivers.directory.simulator import certificate, fingerprint

SUFFIX, READER, PASSWORD = "dc=quay,dc=example", "cn=reader,dc=quay,dc=example", "slapd-reader-7"
CONFIG = """dn: cn=config
objectClass: olcGlobal
cn: config
olcTLSCertificateFile: {cert}
olcTLSCertificateKeyFile: {key}

dn: cn=module,cn=config
objectClass: olcModuleList
cn: module
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

{schemas}
dn: olcDatabase={{1}}mdb,cn=config
objectClass: olcDatabaseConfig
objectClass: olcMdbConfig
olcDatabase: {{1}}mdb
olcSuffix: {suffix}
olcDbDirectory: {data}
olcDbMaxSize: 1073741824
olcDbIndex: objectClass eq
olcRootDN: {reader}
olcRootPW: {password}
olcSizeLimit: {limit}
"""


@dataclass(frozen=True)
class Slapd:
    directory: Directory
    folder: Path

    def change(self, ldif: str) -> None:
        """Changes, as ldapmodify takes them."""
        host = f"ldap://{self.directory.controller}"
        command = ["ldapmodify", "-x", "-H", host, "-D", READER, "-w", PASSWORD]
        done = subprocess.run(command, input=ldif, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr

    def search(self, *asked: str) -> str:
        host = f"ldap://{self.directory.controller}"
        command = [
            "ldapsearch",
            "-x",
            "-LLL",
            "-o",
            "ldif-wrap=no",
            "-H",
            host,
            "-D",
            READER,
            "-w",
            PASSWORD,
            "-b",
            SUFFIX,
        ]
        return subprocess.run([*command, *asked], capture_output=True, text=True, check=True).stdout


def schemas(of: Schema) -> str:
    """The schemas that the package ships; for the successor of RFC 2307, with posixGroup as an auxiliary class."""
    found = []
    for name in ("core", "cosine", "nis", "inetorgperson"):
        text = Path(f"/etc/ldap/schema/{name}.ldif").read_text()
        if name == "nis" and of == "rfc2307bis":
            head, mark, tail = text.partition("NAME 'posixGroup'")
            text = head + mark + tail.replace("STRUCTURAL", "AUXILIARY", 1)
        found.append("\n".join(line for line in text.splitlines() if not line.startswith("#")).strip() + "\n\n")
    return "".join(found)


def free_port() -> int:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        return int(taken.getsockname()[1])


@contextmanager
def slapd(schema: Schema, content: str, limit: str = "unlimited") -> Iterator[Slapd]:
    with tempfile.TemporaryDirectory(prefix="yardgate-slapd-", dir="/tmp") as top:
        folder = Path(top)
        cert, key = certificate(folder / "tls", "127.0.0.1")
        (folder / "config").mkdir()
        (folder / "data").mkdir()
        told = CONFIG.format(
            cert=cert,
            key=key,
            schemas=schemas(schema),
            suffix=SUFFIX,
            data=folder / "data",
            reader=READER,
            password=PASSWORD,
            limit=limit,
        )
        for number, text in ((0, told), (1, content)):
            done = subprocess.run(
                ["slapadd", "-q", "-n", str(number), "-F", str(folder / "config")],
                input=text,
                capture_output=True,
                text=True,
            )
            assert done.returncode == 0, done.stderr
        port = free_port()
        process = subprocess.Popen(
            ["slapd", "-h", f"ldap://127.0.0.1:{port}", "-F", str(folder / "config"), "-d", "0"],
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        try:
            until = time.monotonic() + 20
            while True:
                try:
                    socket.create_connection(("127.0.0.1", port), 1).close()
                    break
                except OSError:
                    assert time.monotonic() < until, "slapd does not answer"
                    time.sleep(0.05)
            settings = Directory(
                id="quay",
                name="QUAY",
                domain="quay.example",
                schema=schema,
                controller=f"127.0.0.1:{port}",
                security="starttls",
                fingerprint=fingerprint(folder / "tls", "127.0.0.1"),
                reader=READER,
                base=SUFFIX,
                numbering="directory",
            )
            yield Slapd(settings, folder)
        finally:
            process.terminate()
            process.wait(20)
