"""A served plan and a browser that is signed in."""

import json
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    NoSuchElementException,
    StaleElementReferenceException,
)
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from tests.server import Server
from yardgate.core.model.plan import Plan
from yardgate.demo import plan as demo_plan
from yardgate.store import Plans
from yardgate.store.accounts import Role
from yardgate.tools.bench_browser import chromium, large_plan

AXE = Path(__file__).parent.parent.parent / "ui" / "node_modules" / "axe-core" / "axe.min.js"
NOT_YET = (NoSuchElementException, StaleElementReferenceException, ElementClickInterceptedException)


class Patient(WebElement):
    """Something on a page that is clicked when nothing lies over it any more: a dialog that closes, a list that folds."""

    def click(self) -> None:
        end = time.monotonic() + 10
        while True:
            try:
                return super().click()
            except ElementClickInterceptedException:
                if time.monotonic() > end:
                    raise
            time.sleep(0.05)


class Browsers:
    """Browsers that tests take in turn: starting one takes longer than many a test. Each is given on as if it were new."""

    def __init__(self) -> None:
        self.all: list[Any] = []
        self.free: list[Any] = []

    def take(self) -> Any:
        if self.free:
            return self.free.pop()
        driver = chromium()
        driver._web_element_cls = Patient
        self.all.append(driver)
        return driver

    def give_back(self, driver: Any, origin: str) -> None:
        """In a new tab, without cookies and what else the origin left: so nothing of a test is there for the next."""
        driver.execute_cdp_cmd("Storage.clearDataForOrigin", {"origin": origin, "storageTypes": "all"})
        driver.execute_cdp_cmd("Network.clearBrowserCookies", {})
        old = driver.window_handles
        driver.switch_to.new_window("tab")
        new = driver.current_window_handle
        for handle in old:
            driver.switch_to.window(handle)
            driver.close()
        driver.switch_to.window(new)
        driver.get_log("browser")
        self.free.append(driver)

    def close(self) -> None:
        for driver in self.all:
            driver.quit()


class Page:
    """One browser, as a person has it."""

    def __init__(self, server: Server, browsers: Browsers):
        self.server, self.browsers = server, browsers
        self.driver = browsers.take()

    def sign_in(self, role: Role) -> "Page":
        self.driver.get(self.server.link(f"the {role}", role))
        self.until(lambda: "/sign-in" not in self.driver.current_url)
        return self

    def until(self, true: Callable[[], Any], seconds: float = 60.0) -> Any:
        end = time.monotonic() + seconds
        while True:
            try:
                if found := true():
                    return found
            except (*NOT_YET, StopIteration):
                pass
            if time.monotonic() > end:
                raise AssertionError(
                    f"it did not come about; the page says: {self.text()[:900]} … {self.text()[-600:]}"
                )
            time.sleep(0.02)

    def go(
        self,
        path: str,
        there: str = "[role=grid], [role=tree], .directory, .shares, .walk, .sentences, .paper, .empty, .sheet-card, .begin, .lookup",
    ) -> None:
        self.driver.get(f"{self.server.url}{path}")
        self.until(lambda: self.all(there))

    def all(self, css: str) -> list[WebElement]:
        return list(self.driver.find_elements(By.CSS_SELECTOR, css))

    def one(self, css: str) -> WebElement:
        return self.until(lambda: self.driver.find_element(By.CSS_SELECTOR, css))

    def button(self, text: str, within: str = "") -> WebElement:
        return self.until(
            lambda: next((b for b in self.all(f"{within} button") if b.is_displayed() and text in b.text), None)
        )

    def press(self, css: str, text: str = "", *, exactly: bool = False) -> None:
        """Presses what is there of this kind with this text, again if it was drawn anew meanwhile."""

        def pressed() -> bool:
            one = next(e for e in self.all(css) if (e.text == text if exactly else text in e.text))
            one.click()
            return True

        self.until(pressed)

    def choose(self, menu: str, act: str) -> None:
        """An act from a button that opens several."""
        self.press("button", menu)
        self.press(".ant-dropdown-menu-item", act)

    def down_to(self, act: str) -> None:
        """In an open menu, with the arrow, to an act."""

        def reached() -> bool:
            here = self.driver.switch_to.active_element
            if here.get_attribute("role") == "menuitem" and act in here.text:
                return True
            if here.get_attribute("role") == "menuitem":
                self.keys(Keys.ARROW_DOWN)
            return False

        self.until(reached)

    def text(self) -> str:
        """What the page says, in one line."""
        return " ".join(str(self.driver.execute_script("return document.body.innerText")).split())

    def says(self, text: str, seconds: float = 60.0) -> None:
        self.until(lambda: text in self.text(), seconds)

    def cell(self, who: str, place: str) -> WebElement:
        return self.one(f'[role=gridcell][aria-label^="{who} on {place}:"]')

    def level(self, who: str, place: str) -> str:
        """What the board says of a cell, in words."""
        return self.until(lambda: self.cell(who, place).get_attribute("aria-label")).partition(": ")[2]

    def keys(self, *keys: str) -> None:
        ActionChains(self.driver).send_keys(*keys).perform()

    def chord(self, held: str, *keys: str) -> None:
        ActionChains(self.driver).key_down(held).send_keys(*keys).key_up(held).perform()

    def fill(self, element: WebElement, text: str) -> None:
        element.send_keys(Keys.CONTROL, "a")
        element.send_keys(text)

    def trouble(self) -> list[str]:
        """What axe-core finds on the page as it is, however slight."""
        self.driver.execute_script(AXE.read_text())
        found = self.driver.execute_async_script(
            "const done = arguments[0]; const rules = { 'target-size': { enabled: true } };"
            "axe.run(document, { resultTypes: ['violations'], rules }).then((r) => done(JSON.stringify(r.violations)));"
        )
        return [
            f"{rule['id']}: {node['html'][:150]} {node['failureSummary'][:200]}"
            for rule in json.loads(found)
            for node in rule["nodes"][:3]
        ]

    def errors(self) -> list[str]:
        """Script errors since they were last asked for."""
        return [
            line["message"]
            for line in self.driver.get_log("browser")
            if line["source"] == "javascript" or "Uncaught" in line["message"]
        ]

    def close(self) -> None:
        self.browsers.give_back(self.driver, self.server.url)


class Yard:
    """A server that runs, and the demo plan on it, which is this test's own."""

    def __init__(self, server: Server, browsers: Browsers):
        self.server, self.browsers = server, browsers
        self.plan = server.put(demo_plan())
        self.pages: list[Page] = []

    def page(self, role: Role = "administrator") -> Page:
        self.pages.append(Page(self.server, self.browsers))
        return self.pages[-1].sign_in(role)

    def at(self, station: str) -> str:
        return f"/p/{self.plan}/{station}"

    def now(self) -> Plan:
        return Plans(self.server.store()).open(self.plan).plan

    def large(self) -> str:
        return self.server.put(large_plan())

    def close(self) -> None:
        for page in self.pages:
            page.close()


@pytest.fixture(scope="session")
def browsers() -> Iterator[Browsers]:
    found = Browsers()
    yield found
    found.close()


@pytest.fixture(scope="session")
def shared_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with Server(tmp_path_factory.mktemp("shared")) as server:
        yield server


@pytest.fixture
def own_server(tmp_path: Path) -> Iterator[Server]:
    """For tests that stop the server, look at all that it has, or want it in a place of their own."""
    with Server(tmp_path / "data") as server:
        yield server


@pytest.fixture
def yard(request: pytest.FixtureRequest, browsers: Browsers) -> Iterator[Yard]:
    own = request.node.get_closest_marker("own_server") is not None
    found = Yard(request.getfixturevalue("own_server" if own else "shared_server"), browsers)
    yield found
    found.close()


@pytest.fixture
def page(yard: Yard) -> Page:
    return yard.page()
