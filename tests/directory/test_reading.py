"""Reading a directory that behaves badly: the stand-in does what real servers do on bad days."""

import threading
from collections.abc import Iterator
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest

from tests.server import until
from yardgate import demo
from yardgate.core.model.directory import Copy, Directory
from yardgate.drivers.directory import ldap, passwords
from yardgate.drivers.directory.ldap import (
    DirectoryError,
    Progress,
    certificate,
    check,
    connect,
    read_all,
    read_changes,
)
from yardgate.drivers.directory.progress import Cancelled
from yardgate.drivers.directory.simulator import DirectoryFaults, SimulatedDirectory
from yardgate.formats.ldif import LdifEntry

WORD = SimulatedDirectory.password


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("certificate")


@pytest.fixture
def server(folder: Path) -> Iterator[SimulatedDirectory]:
    with SimulatedDirectory(demo.entries(), folder).running() as started:
        yield started


def at(server: SimulatedDirectory, **more: object) -> Directory:
    settings = {"controller": f"127.0.0.1:{server.port}", "fingerprint": server.fingerprint, **more}
    return replace(demo.DIRECTORY, **settings)  # type: ignore[arg-type]


def read(directory: Directory, password: str | None = WORD) -> Copy:
    with connect(directory, password) as reader:
        return read_all(reader, Progress())


def refused(directory: Directory, password: str | None = WORD) -> DirectoryError:
    with pytest.raises(DirectoryError) as caught:
        read(directory, password)
    with pytest.raises(DirectoryError) as checked:
        list(check(directory, password))
    assert checked.value.step == caught.value.step
    assert WORD not in str(caught.value)
    return caught.value


def test_every_step_is_tried_and_told(server: SimulatedDirectory) -> None:
    steps = list(check(at(server), WORD))
    assert [step.step for step in steps] == ["controller", "port", "tls", "sign-in", "clock", "base", "read", "paging"]
    assert len(read(at(server)).records) == 14


def test_changes_give_what_reading_everything_gives(server: SimulatedDirectory) -> None:
    with connect(at(server), WORD) as reader:
        found = read_changes(reader, demo.last_copy(), Progress())
        assert not found.full
        assert found.records == read_all(reader, Progress()).records
        restored = replace(demo.last_copy(), marker="usn 9999 CN=NTDS Settings,CN=STAND-IN")
        assert read_changes(reader, restored, Progress()).full  # the controller is behind: it was put back
        other = replace(demo.last_copy(), marker="usn 1000 CN=NTDS Settings,CN=OTHER")
        assert read_changes(reader, other, Progress()).full


def test_a_name_that_does_not_resolve_and_a_port_that_is_closed(server: SimulatedDirectory) -> None:
    lost = refused(at(server, controller="no-such-host.invalid"))
    assert (lost.step, "cannot be resolved" in lost.words) == ("controller", True)
    closed = refused(at(server, controller="127.0.0.1:1"))
    assert (closed.step, "refused" in closed.words) == ("port", True)
    assert refused(at(server, controller="not a host")).step == "controller"


def test_a_certificate_that_nobody_vouches_for_is_shown_and_taken_only_when_accepted(
    server: SimulatedDirectory,
) -> None:
    stranger = at(server, fingerprint=None)
    assert refused(stranger).step == "tls"
    shown = certificate(stranger)
    assert shown is not None
    assert shown.fingerprint == server.fingerprint
    assert shown.distrust == "is signed by itself"
    assert "another certificate" in refused(at(server, fingerprint="0" * 64)).words


def test_a_trusted_certificate_must_be_for_this_name_and_not_expired(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, days, words in (
        ("127.0.0.1", 100, ""),
        ("127.0.0.2", 100, "is for another address"),
        ("elsewhere.example", 100, "is for another"),
        ("127.0.0.1", -1, "has expired"),
    ):
        folder = tmp_path / f"{name}{days}"
        with SimulatedDirectory(demo.entries(), folder, name=name, days=days).running() as server:
            monkeypatch.setenv("SSL_CERT_FILE", str(folder / "certificate.pem"))
            if words:
                error = refused(at(server, fingerprint=None))
                assert (error.step, words in error.words) == ("tls", True), error.words
            else:
                assert read(at(server, fingerprint=None)).records


def test_starttls_and_plain_text(folder: Path) -> None:
    with SimulatedDirectory(demo.entries(), folder, tls=False).running() as server:
        assert len(read(at(server, security="starttls")).records) == 14
        assert "only over TLS" in refused(at(server, security="plain", plain_agreed=True, fingerprint=None)).words
        assert refused(at(server, security="plain", fingerprint=None)).step == "tls"
        assert refused(at(server)).step == "tls"  # LDAPS asked of a server that speaks plain


def test_a_wrong_password_an_empty_one_and_a_locked_account(server: SimulatedDirectory) -> None:
    assert refused(at(server), "wrong").words.endswith("the name or the password is wrong")
    assert refused(at(server), "").step == "sign-in"
    assert refused(at(server), None).step == "sign-in"
    server.faults = DirectoryFaults(locked=True)
    assert refused(at(server)).words.endswith("this account is locked")


def test_a_clock_that_is_off(server: SimulatedDirectory) -> None:
    server.faults = DirectoryFaults(clock=timedelta(minutes=-6))
    with pytest.raises(DirectoryError, match="clocks differ by 6 minutes"):
        list(check(at(server), WORD))


def test_a_base_that_is_not_there(server: SimulatedDirectory) -> None:
    error = refused(at(server, base="DC=nowhere,DC=example"))
    assert (error.step, "nothing" in error.words) == ("base", True)


def test_a_filter_that_is_none(server: SimulatedDirectory) -> None:
    for text in ("(cn=", "cn=a)(objectClass=*", "((("):
        with pytest.raises(DirectoryError, match="filter"):
            read(at(server, filter=text))
    assert {r.name for r in read(at(server, filter="(sAMAccountName=pia*)")).records.values()} == {"pia.lombardi"}


def test_no_paging_a_size_limit_and_a_referral(server: SimulatedDirectory) -> None:
    server.faults = DirectoryFaults(no_paging=True)
    assert refused(at(server)).step == "paging"
    server.faults = DirectoryFaults(size_limit=3)
    assert refused(at(server)).step == "paging"
    server.faults = DirectoryFaults(referral=True)
    assert len(read(at(server)).records) == 14


@pytest.mark.parametrize("most", [1, 2, 3])
def test_groups_too_big_for_one_answer_are_read_range_by_range(server: SimulatedDirectory, most: int) -> None:
    whole = read(at(server))
    server.faults = DirectoryFaults(most_values=most)
    assert read(at(server)).records == whole.records
    assert max(len(record.members) for record in whole.records.values()) > 3


@pytest.mark.parametrize("after", [0, 1, 2, 3])
def test_a_connection_that_is_cut_after_any_page_leaves_nothing_half(
    server: SimulatedDirectory, monkeypatch: pytest.MonkeyPatch, after: int
) -> None:
    monkeypatch.setattr(ldap, "PAGE", 4)
    server.faults = DirectoryFaults(hang_up=True, after=after)
    with pytest.raises(DirectoryError, match="try again"):
        read(at(server))
    server.faults = DirectoryFaults()
    assert len(read(at(server)).records) == 14


def test_a_server_that_stops_in_the_middle(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ldap, "PAGE", 2)
    with SimulatedDirectory(demo.entries(), folder).running() as server, connect(at(server), WORD) as reader:
        pages = reader.pages(demo.DIRECTORY.base, "(objectClass=*)", ["cn"])
        next(pages)
        server.faults = DirectoryFaults(hang_up=True)
        with pytest.raises(DirectoryError, match="try again"):
            list(pages)


def test_slow_answers_run_out_of_time(server: SimulatedDirectory, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ldap, "ANSWER_SECONDS", 1)
    server.faults = DirectoryFaults(slow=2.5)
    with pytest.raises(DirectoryError, match=r"no answer in time|broke off"):
        read(at(server))


def test_reading_can_be_given_up(server: SimulatedDirectory, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ldap, "PAGE", 2)
    progress = Progress()
    progress.cancel = True
    before = threading.active_count()
    with connect(at(server), WORD) as reader, pytest.raises(Cancelled):
        read_all(reader, progress)
    assert progress.done > 0
    until(lambda: threading.active_count() <= before)


def test_hostile_names_are_only_names(server: SimulatedDirectory) -> None:
    dn = r"CN=*)(objectClass\=*\2c\00,OU=Office,DC=lanternquay,DC=example"
    pia = next(e for e in server.entries if e.dn.startswith("CN=Pia"))
    sid = pia.attributes["objectsid"][0][:-1] + b"\x77"
    evil = LdifEntry(
        dn,
        {
            **pia.attributes,
            "samaccountname": (b"*)(uid=*",),
            "userprincipalname": (b"x)(|(cn=*@q",),
            "objectsid": (sid,),
            "usnchanged": (b"1",),
        },
    )
    server.entries.append(evil)
    with connect(at(server), WORD) as reader:
        found = read_changes(reader, demo.last_copy(), Progress())
        assert "*)(uid=*" in {record.name for record in found.records.values()}
        assert found.records == read_all(reader, Progress()).records


def test_the_password_comes_from_the_environment_or_a_file_that_nobody_else_may_read(tmp_path: Path) -> None:
    assert passwords.given(demo.DIRECTORY, {}) is None
    assert passwords.given(demo.DIRECTORY, {"YARDGATE_DIRECTORY_PASSWORD": "one"}) == "one"
    both = {"YARDGATE_DIRECTORY_PASSWORD": "one", "YARDGATE_DIRECTORY_PASSWORD_LANTERNQUAY": "two"}
    assert passwords.given(demo.DIRECTORY, both) == "two"
    file = tmp_path / "secret"
    file.write_text("three\nmore\n")
    file.chmod(0o600)
    assert passwords.given(demo.DIRECTORY, {"YARDGATE_DIRECTORY_PASSWORD_FILE": str(file)}) == "three"
    file.chmod(0o640)
    with pytest.raises(DirectoryError, match="others may read"):
        passwords.from_file(file)
    with pytest.raises(DirectoryError, match="No such file"):
        passwords.from_file(tmp_path / "missing")
