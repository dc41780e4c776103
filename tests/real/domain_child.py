"""An Active-Directory-compatible domain controller in namespaces of its own: one line of JSON in, one out.

Runs under the system's Python as root, started with unshare(1) by `domain.py`, as the first process of its process namespace:
when it ends, everything it started ends with it. What is changed is changed in the controller's own database.
"""

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

sys.path.append(str(Path(__file__).parent))

import ldb
from namespaces import ADMIN, BASE, DNS, PASSWORD, SHORT, answers, namespace, run
from samba.auth import system_session
from samba.dcerpc.security import dom_sid
from samba.ndr import ndr_unpack
from samba.param import LoadParm
from samba.samdb import SamDB


def escaped(name: str) -> str:
    """A value in a distinguished name (RFC 4514 section 2.4)."""
    return "".join(f"\\{ord(char):02x}" if char in ',\\+"<>;=#' else char for char in name)


def dn_in(unit: str, name: str) -> str:
    """The name of something in a unit, or among the users where there is none."""
    return f"CN={escaped(name)},{f'OU={escaped(unit)}' if unit else 'CN=Users'},{BASE}"


class Domain:
    def __init__(self, top: Path) -> None:
        self.top = top
        namespace(top, "dc1")
        sys.stdin.readline()  # the wire to the member server is there now
        run("ip", "addr", "add", "10.99.0.1/24", "dev", "yard0")
        run("ip", "link", "set", "yard0", "up")
        run(
            "samba-tool",
            "domain",
            "provision",
            f"--realm={DNS.upper()}",
            f"--domain={SHORT}",
            "--server-role=dc",
            "--use-rfc2307",
            "--dns-backend=SAMBA_INTERNAL",
            "--host-name=dc1",
            "--host-ip=10.99.0.1",
            f"--adminpass={ADMIN}",
            f"--targetdir={top}",
            "--option=interfaces=lo yard0",
            "--option=bind interfaces only=yes",
            "--option=server services=s3fs rpc ldap cldap kdc winbindd dns",
        )
        self.conf = str(top / "etc" / "smb.conf")
        lines = Path(self.conf).read_text().splitlines()
        Path(self.conf).write_text("\n".join(line for line in lines if "dns forwarder" not in line) + "\n")
        self.lp = LoadParm()
        self.lp.load(self.conf)
        self.sam = SamDB(url=self.lp.samdb_url(), session_info=system_session(), lp=self.lp)
        # Plain searches of many accounts at once, which the password rules would only slow down.
        self.started = None

    def start(self) -> None:
        if self.started is None:
            run("samba_spnupdate")
        log = open(self.top / "log" / "spawn.log", "ab")  # noqa: SIM115
        self.started = subprocess.Popen(
            ["samba", "--foreground", "--no-process-group", f"--configfile={self.conf}"],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
        answers("10.99.0.1", 88, 389, 445, 636)

    def stop(self) -> None:
        """At once, in the middle of whatever it does."""
        os.killpg(self.started.pid, signal.SIGKILL)
        self.started.wait()

    def one(self, name: str, *attributes: str):
        return self.sam.search(
            BASE, expression=f"(sAMAccountName={ldb.binary_encode(name)})", attrs=list(attributes) or ["objectSid"]
        )[0]

    def rid(self, name: str) -> str:
        return str(ndr_unpack(dom_sid, self.one(name)["objectSid"][0])).rpartition("-")[2]

    def set(self, name: str, attribute: str, *values: str) -> None:
        message = ldb.Message(self.one(name).dn)
        message[attribute] = ldb.MessageElement(list(values), ldb.FLAG_MOD_REPLACE, attribute)
        self.sam.modify(message)

    # --- what can be asked ---

    def unit(self, name: str) -> None:
        self.sam.create_ou(f"OU={escaped(name)},{BASE}")

    def user(self, name: str, full: str, unit: str = "", **attributes: str) -> None:
        self.sam.add(
            {
                "dn": dn_in(unit, full),
                "objectClass": "user",
                "sAMAccountName": name,
                "userPrincipalName": f"{name}@{DNS}",
                "displayName": full,
                **attributes,
            }
        )
        self.sam.setpassword(f"(sAMAccountName={ldb.binary_encode(name)})", PASSWORD)
        self.sam.enable_account(f"(sAMAccountName={ldb.binary_encode(name)})")

    def group(self, name: str, unit: str = "", mail: bool = False, scope: str = "global") -> None:
        kind = {"global": 2, "local": 4, "universal": 8}[scope] - (0 if mail else 0x80000000)
        self.sam.add({"dn": dn_in(unit, name), "objectClass": "group", "sAMAccountName": name, "groupType": str(kind)})

    def join(self, group: str, *members: str) -> None:
        self.members(group, members, ldb.FLAG_MOD_ADD)

    def leave(self, group: str, *members: str) -> None:
        self.members(group, members, ldb.FLAG_MOD_DELETE)

    def members(self, group: str, members, what: int) -> None:
        message = ldb.Message(self.one(group).dn)
        message["member"] = ldb.MessageElement([str(self.one(member).dn) for member in members], what, "member")
        self.sam.modify(message)

    def primary(self, user: str, group: str) -> None:
        self.set(user, "primaryGroupID", self.rid(group))

    def leave_primary(self, group: str) -> None:
        """Whoever has a group as primary group goes back to Domain Users."""
        for found in self.sam.search(BASE, expression=f"(primaryGroupID={self.rid(group)})", attrs=["sAMAccountName"]):
            self.set(str(found["sAMAccountName"]), "primaryGroupID", "513")

    def disable(self, user: str) -> None:
        self.sam.disable_account(f"(sAMAccountName={ldb.binary_encode(user)})")

    def enable(self, user: str) -> None:
        self.sam.enable_account(f"(sAMAccountName={ldb.binary_encode(user)})")

    def remove(self, name: str) -> None:
        self.sam.delete(self.one(name).dn)

    def rename(self, name: str, to: str, full: str) -> None:
        old = self.one(name).dn
        new = ldb.Dn(self.sam, str(old))
        new.set_component(0, "CN", full)
        self.sam.rename(old, new)
        self.set_at(new, {"sAMAccountName": to, "displayName": full})

    def set_at(self, dn, values) -> None:
        message = ldb.Message(dn)
        for attribute, value in values.items():
            message[attribute] = ldb.MessageElement(value, ldb.FLAG_MOD_REPLACE, attribute)
        self.sam.modify(message)

    def move(self, name: str, unit: str) -> None:
        old = self.one(name).dn
        self.sam.rename(old, ldb.Dn(self.sam, dn_in(unit, old.get_component_value(0))))

    def rename_unit(self, name: str, to: str) -> None:
        self.sam.rename(ldb.Dn(self.sam, f"OU={escaped(name)},{BASE}"), ldb.Dn(self.sam, f"OU={escaped(to)},{BASE}"))


def main() -> None:
    top = Path(sys.argv[1])
    domain = Domain(top)
    print(json.dumps("ready"), flush=True)
    for line in sys.stdin:
        try:
            for what, *rest in json.loads(line):
                more = rest.pop() if rest and isinstance(rest[-1], dict) else {}
                getattr(domain, what)(*rest, **more)
            print(json.dumps(None), flush=True)
        except Exception as error:  # told to the test, which fails with it
            print(json.dumps(f"{type(error).__name__}: {error}"), flush=True)


main()
