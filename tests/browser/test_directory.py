"""Joining a directory, reading it again, its numbers, and two accounts of one name, as a planner does it in a browser."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.conftest import Page, Yard
from yardgate import demo
from yardgate.core.edits.records import PutDirectory
from yardgate.drivers.directory.simulator import DirectoryFaults, SimulatedDirectory
from yardgate.store import Plans
from yardgate.store.copies import Copies
from yardgate.store.directory_servers import Servers


@pytest.fixture
def server(tmp_path: Path) -> Iterator[SimulatedDirectory]:
    with SimulatedDirectory(demo.entries(), tmp_path / "certificate").running() as started:
        yield started


@pytest.fixture
def joined(yard: Yard, server: SimulatedDirectory) -> None:
    """The plan's directory at the stand-in's port, last read three days ago."""
    store = yard.server.store()
    directory = replace(demo.DIRECTORY, controller=f"127.0.0.1:{server.port}", fingerprint=server.fingerprint)
    Plans(store).commit(yard.plan, 1, [PutDirectory(directory)], "ann")
    Copies(store).put(yard.plan, directory.id, demo.last_copy())
    Servers(store).agree(yard.plan, directory.id, directory.server, "ann")


def field(page: Page, label: str) -> WebElement:
    """An input of the drawer, by what stands above it."""
    return page.until(
        lambda: page.driver.execute_script(
            "return [...document.querySelectorAll('.ant-drawer .field')].find((f) => f.firstChild.textContent.startsWith(arguments[0]))?.querySelector('input, textarea')",
            label,
        )
    )


def press(page: Page, text: str) -> None:
    page.until(lambda: page.button(text).click() or True)


def test_a_directory_is_joined_after_three_things_that_fail(yard: Yard, page: Page, server: SimulatedDirectory) -> None:
    page.go(yard.at("directories"))
    press(page, "Join a directory")
    page.fill(field(page, "Domain name"), "second.example")
    page.fill(field(page, "Name or address"), "127.0.0.1:1")
    press(page, "Try it")
    page.says("does not take connections on port 1: refused")
    page.fill(field(page, "Name or address"), f"127.0.0.1:{server.port}")
    page.fill(field(page, "Account"), SimulatedDirectory.reader)
    page.fill(field(page, "Password"), "wrong")
    page.fill(field(page, "Below"), "DC=lanternquay,DC=example")
    press(page, "Try it")
    page.says("is signed by itself")
    page.says(" ".join(server.fingerprint[at : at + 8] for at in range(0, 64, 8)))
    press(page, "accept it")
    page.says("the name or the password is wrong")
    page.fill(field(page, "Password"), SimulatedDirectory.password)
    press(page, "Try it")
    page.says("answers come in pages")
    assert page.trouble() == []
    press(page, "Read it")
    page.says("was read (everything)")
    press(page, "Apply")
    page.says("signs in as SECOND\\pia.lombardi")
    plan = yard.now()
    assert {user.name for user in plan.users.values() if user.origin == "second"} >= {"pia.lombardi", "nadia.roux"}
    assert SimulatedDirectory.password not in repr(plan)
    assert page.errors() == []


@pytest.mark.usefixtures("joined")
def test_a_directory_is_read_again_looked_at_kept_and_undone(
    yard: Yard, page: Page, server: SimulatedDirectory
) -> None:
    page.go(yard.at("directories"))
    page.says("The copy in this plan is from 3 days ago")
    page.says("LANTERNQUAY as of 3 days ago")
    press(page, "Read what changed")  # the password is not known here: the settings ask for it
    page.fill(field(page, "Password"), SimulatedDirectory.password)
    press(page, "Try it")
    page.says("answers come in pages")
    press(page, "Read it")
    page.says("Dana Rook is gone from the directory")
    page.says("ines.marques is called ines.duarte now")
    page.says("Rolf Petersen RO → NA common, noticeboard, photos, quotes, training")
    assert page.trouble() == []
    assert not yard.now().users["dana-rook"].gone
    press(page, "Apply")
    page.until(lambda: "The copy in this plan is from 3 days ago" not in page.text())
    assert yard.now().users["dana-rook"].gone
    page.go(yard.at("people?who=dana-rook"))
    page.says("LANTERNQUAY no longer has this account")
    press(page, "Undo")
    page.until(lambda: not yard.now().users["dana-rook"].gone)
    server.faults = DirectoryFaults(hang_up=True)
    page.go(yard.at("directories"))
    press(page, "Read everything")
    page.says("LANTERNQUAY could not be read")
    page.says("The plan is as before.")
    press(page, "Dismiss")
    page.until(lambda: "could not be read" not in page.text())
    assert page.errors() == []


@pytest.mark.usefixtures("joined")
def test_other_numbers_are_seen_before_they_are_given(yard: Yard, page: Page) -> None:
    page.go(yard.at("directories"))
    press(page, "Other numbers")
    page.until(lambda: page.all("input[name=numbering]"))
    page.driver.execute_script(
        "document.querySelectorAll('input[name=numbering]')[2].click()"
    )  # it may still be sliding in
    page.fill(page.until(lambda: page.one("[aria-label='Lowest number']")), "40000")
    page.fill(page.one("[aria-label='Highest number']"), "41000")
    press(page, "See whose number moves")
    page.says("13 accounts get another number")
    page.says("to be rewritten on")
    assert page.trouble() == []
    press(page, "Assign these numbers")
    page.until(lambda: yard.now().directories["lanternquay"].numbering == "table")


@pytest.mark.usefixtures("joined")
def test_two_accounts_of_one_name_are_told_apart(yard: Yard, page: Page) -> None:
    page.go(yard.at("people?who=farid-haddad-2"))
    page.says("From LANTERNQUAY")
    page.says("LANTERNQUAY\\farid.haddad")
    assert page.trouble() == []
    find = page.one(".find input")
    find.send_keys("farid.haddad@lantern")
    page.until(lambda: len(page.all(".ant-select-item-option")) == 1)
    page.go(yard.at("people?who=apprentices"))
    members = page.until(lambda: page.one("[aria-label=Members]"))
    members.send_keys("farid")
    page.says("Farid Haddad (local)")
    page.says("Farid Haddad (LANTERNQUAY) · LANTERNQUAY\\farid.haddad")
