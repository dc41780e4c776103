"""Signing in on a Linux host's SMB server: whose password nobody knows yet, giving passwords, sessions that are open, and ending them."""

import json
from collections.abc import Collection, Iterator, Mapping
from typing import Any

from yardgate.core.host.sign_in import OpenSession
from yardgate.core.model.naming import show
from yardgate.drivers.appliance import ApplianceError
from yardgate.drivers.linux.command import Command, Runner, understood
from yardgate.drivers.linux.reading import passdb

UNKNOWN = "no password given yet"
"""How the description of an account begins whose password nobody knows; behind it stands when that was set (see `commands.ENTER`)."""

GIVE = """change=$1
while read -r name && read -r p; do
  was=$(pdbedit -v -u "$name" | sed -n 's/^Account Flags: *//p')
  printf '%s\\n%s\\n' "$p" "$p" | smbpasswd -s "$name" > /dev/null
  case $was in *D*) net sam set disabled "$name" yes > /dev/null ;; esac
  pdbedit -r -u "$name" -N "" > /dev/null
  net sam set pwdmustchangenow "$name" "$change" > /dev/null
done"""
"""Names and passwords come line by line: they stand in no command, and so in no list of processes. A password would enable an account."""
SHUT = """for pid; do smbcontrol "$pid" shutdown; done"""


def without_password(run: Runner) -> frozenset[str]:
    """The server's accounts whose password nobody was given since they were made. Raises ApplianceError."""
    return frozenset(name for name, said in passdb(run).items() if is_unknown(said))


def is_unknown(said: Mapping[str, str]) -> bool:
    """Whether nobody was given the password of an account, of which the server says this, since it was made."""
    return said.get("Account desc", "") == f"{UNKNOWN} ({said.get('Password last set', '')})"


def give_passwords(run: Runner, passwords: Mapping[str, str], change: bool) -> None:
    """Let accounts have these passwords. change: each has to be changed before anything else. Raises ApplianceError, where one cannot be
    given; those before it are given then."""
    if odd := [name for name, password in passwords.items() if "\n" in f"{name}{password}"]:
        raise ApplianceError(f"{show(odd[0])} or its password has more than one line")
    given = "".join(f"{name}\n{password}\n" for name, password in passwords.items())
    run(Command(("sh", "-euc", GIVE, "sh", "yes" if change else "no"), "give passwords", given)).needed(
        "give passwords"
    )


def sessions(run: Runner) -> tuple[OpenSession, ...]:
    """All that are open now, by account and machine; guests are left out. Raises ApplianceError."""
    return tuple(sorted(session for _, session in _sessions(run)))


def end_sessions(run: Runner, accounts: Collection[str]) -> tuple[OpenSession, ...]:
    """End the sessions of some accounts, and say which. A client has one connection for all who work there: it signs the others in again
    by itself. Raises ApplianceError."""
    found = [(pid, session) for pid, session in _sessions(run) if session.account in accounts]
    if found:
        pids = sorted({str(pid) for pid, _ in found})
        run(Command(("sh", "-euc", SHUT, "sh", *pids), "end sessions")).needed("end sessions")
    return tuple(sorted(session for _, session in found))


def _sessions(run: Runner) -> list[tuple[int, OpenSession]]:
    asking = Command(("smbstatus", "--json"), "read the SMB server's open sessions", changes=False)
    text = run(asking).needed(asking.why)
    with understood(asking.why):
        return list(_told(json.loads(text[text.index("{") :])))


def _told(said: Mapping[str, Any]) -> Iterator[tuple[int, OpenSession]]:
    """What smbstatus(1) says in JSON; a process of the server serves one client's connection."""
    connected = list(said.get("tcons", {}).values())
    opened = [
        (str(one["server_id"]["pid"]), int(one["uid"]), f"{file['service_path']}/{file['filename']}".removesuffix("/."))
        for file in said.get("open_files", {}).values()
        for one in file["opens"].values()
    ]
    for session in said.get("sessions", {}).values():
        pid, uid, number = str(session["server_id"]["pid"]), int(session["uid"]), str(session["session_id"])
        mine = [one for one in connected if str(one["session_id"]) == number and one["service"] != "IPC$"]
        yield (
            int(pid),
            OpenSession(
                str(session["username"]),
                str(session["remote_machine"]),
                min((str(one["connected_at"]) for one in mine), default=""),
                tuple(sorted({str(one["service"]) for one in mine})),
                tuple(sorted({path for at, who, path in opened if (at, who) == (pid, uid)})),
            ),
        )
