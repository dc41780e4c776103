"""Accounts and sessions, what was done, a destination's limits, what a plan may manage, and a run that was ended, as people meet them."""

from collections.abc import Iterator
from datetime import date
from pathlib import Path

import pytest
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.conftest import Page, Yard
from tests.standin import stand_in
from yardgate import demo
from yardgate.core.host.steps import Destination
from yardgate.drivers.simulator import ApplianceFaults, SimulatedAppliance
from yardgate.store.accounts import Accounts
from yardgate.store.rollouts import Rollouts


def menu(page: Page, item: str) -> None:
    page.go(page.driver.current_url.replace(page.server.url, ""), "[role=grid]")
    page.until(lambda: page.one(".bar button:last-of-type.plain, .bar > .plain:last-child").click() or True)
    choose(page, ".ant-dropdown-menu-item", item)


def choose(page: Page, css: str, text: str) -> None:
    page.until(lambda: next(one for one in page.all(css) if one.is_displayed() and text in one.text).click() or True)


@pytest.mark.own_server
def test_accounts_are_added_given_single_plans_signed_out_and_it_is_written_down(yard: Yard, page: Page) -> None:
    page.go(yard.at("board"), "[role=grid]")
    menu(page, "Who may sign in")
    page.fill(page.one("input[aria-label=Name]"), "Rosa Lind")
    page.button("Add", ".ant-drawer").click()
    page.says("Hand this link to Rosa Lind")
    link = page.until(lambda: page.one(".ant-drawer code").text)
    store = yard.server.store()
    rosa = Accounts(store).by_name("Rosa Lind")
    assert rosa is not None
    assert rosa.role == "planner"
    Accounts(store).change(rosa.id, "member")
    menu(page, "Who may sign in")
    page.one("[aria-label='Plans of Rosa Lind']").send_keys("reads")
    choose(page, ".ant-select-item-option", "reads")
    page.until(lambda: (Accounts(store).by_name("Rosa Lind") or rosa).plans == {yard.plan: "reader"})
    page.one(".ant-drawer-title").click()  # away from the list, which closes
    page.until(lambda: page.trouble() == [])
    other = yard.page("planner")
    other.driver.get(link)
    other.says("You are signed in here as the planner. This link signs Rosa Lind in instead")
    other.button("Sign in as Rosa Lind").click()
    other.one("[role=grid]")
    other.says("Rosa Lind (reader)")
    menu(other, "My password and sessions")
    other.says("Where you are signed in")
    other.says("A session ends two weeks after it began")
    assert other.trouble() == []
    new, again = other.driver.find_elements(By.CSS_SELECTOR, ".ant-drawer input[type=password]")
    other.fill(new, "gaff rig and lantern")
    other.fill(again, "gaff rig and lantern")
    other.button("Set password", ".ant-drawer").click()
    other.says("Your password is set")
    menu(page, "Who may sign in")
    page.until(lambda: page.one("[aria-label='More about Rosa Lind']").is_displayed())
    page.one("[aria-label='More about Rosa Lind']").send_keys(Keys.ENTER)
    choose(page, ".ant-dropdown-menu-item", "Sign out everywhere")
    page.says("Rosa Lind is signed out everywhere.")
    other.driver.refresh()
    other.says("Sign in to plan who may read and write what.")
    menu(page, "Audit log")
    for said in ("account added", "signed in by a link", "password set", "sessions ended", "Rosa Lind as planner"):
        page.says(said)
    page.fill(page.one("input[aria-label^='Only with']"), "nobody of that name")
    page.says("No entry matches.")
    assert page.trouble() == []


@pytest.fixture
def appliance(yard: Yard, tmp_path: Path) -> Iterator[SimulatedAppliance]:
    """The demo's appliance, of which this plan made nothing."""
    with stand_in(tmp_path, demo.rolled_out(yard.now(), date.today())) as found:
        where = Destination(kind="stand-in", host="127.0.0.1", port=found.port)
        Rollouts(yard.server.store()).send_to(yard.plan, where)
        yield found


def test_what_was_there_before_is_left_until_it_may_be_managed_and_a_run_can_be_ended(
    yard: Yard, page: Page, appliance: SimulatedAppliance
) -> None:
    page.go(yard.at("rollout"), ".work")
    page.button("Read what it has").click()
    page.says("Now it is known what the appliance has")
    page.says("before this plan, so")
    page.says("cannot be done")
    page.button("Let the plan change").click()
    assert page.trouble() == []
    page.button("Let it change", ".ant-modal").click()
    page.until(lambda: "before this plan, so" not in page.one(".work").text)
    page.button("to the stand-in").click()
    top = page.until(lambda: next(i for i in page.all(".ant-modal input") if i.get_attribute("value") == "/srv"))
    page.fill(top, "/etc")
    page.button("Send it there", ".ant-modal").click()
    page.says("“/etc” holds what the system itself needs")
    page.button("Cancel", ".ant-modal").click()
    appliance.faults = ApplianceFaults(slow=0, lost=2)
    page.button("Roll out").click()
    page.button("Start", ".ant-modal").click()
    page.says("does not answer")
    page.button("Stuck?").send_keys(Keys.ENTER)
    page.button("End it", ".ant-popover").click()
    page.says("Ended from here")
    page.says("Ended by the administrator while")
    assert page.trouble() == []
    page.button("Back to the steps").click()
    page.says("ended with its outcome unknown")
