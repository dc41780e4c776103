"""Takes the pictures in docs/screenshots anew, from the demo: `.venv/bin/python -m tests.browser.pictures [NAME …]`.

Look at them before you commit them.
"""

import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from selenium.webdriver.common.by import By

from yardgate.tools.bench_browser import chromium

FOLDER = Path(__file__).parent.parent.parent / "docs" / "screenshots"
DARK = [{"name": "prefers-color-scheme", "value": "dark"}]
MATRIX = "Who may what, June;;\nfolder;person;right\npayroll;Oyelaran, Mira;read\npayroll;Amara Okafor;x\nattic;Tomas Brandt;write\n"


class Camera:
    """A browser at the demo."""

    def __init__(self, link: str):
        self.driver = chromium()
        self.driver.get(link)
        self.plan = self.wait(lambda: re.search(r"(.*/p/\w+)/", self.driver.current_url)).group(1)

    def wait(self, true: Callable[[], Any]) -> Any:
        end = time.monotonic() + 20
        while not (found := true()):
            if time.monotonic() > end:
                raise AssertionError("it did not come about")
            time.sleep(0.05)
        return found

    def go(self, path: str, shown: str) -> None:
        self.driver.get(f"{self.plan}/{path}")
        self.wait(lambda: self.driver.find_elements(By.CSS_SELECTOR, shown))
        time.sleep(1)

    def press(self, text: str, css: str = "button") -> None:
        def found() -> bool:
            for one in self.driver.find_elements(By.CSS_SELECTOR, css):
                if one.is_displayed() and text in one.text:
                    one.click()
                    return True
            return False

        self.wait(found)
        time.sleep(0.8)

    def type(self, css: str, *keys: str) -> None:
        self.driver.find_element(By.CSS_SELECTOR, css).send_keys(*keys)
        time.sleep(0.8)

    def take(self, name: str) -> None:
        self.driver.save_screenshot(str(FOLDER / f"{name}.png"))


def board(see: Camera) -> None:
    see.go("board", ".c.RW")


def board_dark(see: Camera) -> None:
    see.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": DARK})
    see.go("board", ".c.RW")


def grants(see: Camera) -> None:
    see.go("board?view=grants&who=apprentices&place=toolpaths", ".c.RW")


def needs(see: Camera) -> None:
    see.go("needs", ".needs-stand")
    see.press("Work them out")
    see.wait(lambda: see.driver.find_elements("css selector", ".suggested li"))
    see.wait(lambda: not see.driver.find_elements("css selector", ".side .ant-btn-loading"))


def begin(see: Camera) -> None:
    see.go("begin", ".question")


def look_up(see: Camera) -> None:
    sizes = {"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": False}
    see.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", sizes)
    see.go("look?who=priya-natarajan", ".big li")


def people(see: Camera) -> None:
    see.go("people?who=priya-natarajan", ".c.mark")


def storage(see: Camera) -> None:
    see.go("storage?place=toolpaths", ".layers")


def storage_posix(see: Camera) -> None:
    see.go("storage?place=petrel-9", ".layers")


def take_in(see: Camera) -> None:
    see.go("board", ".c.RW")
    see.press("Import")
    see.type(".ant-drawer textarea", MATRIX)
    see.press("Preview")
    time.sleep(2)
    see.driver.execute_script("document.querySelector('.ant-drawer-body').scrollTop = 130")
    time.sleep(0.5)


def shares(see: Camera) -> None:
    see.go("shares?share=share-hulls", ".bars")


def walk(see: Camera) -> None:
    see.go("walk?as=priya-natarajan~smb~!mira-oyelaran~smb~&share=share-drawings&place=drawings", ".walk tbody tr + tr")
    see.driver.execute_script(
        "[...document.querySelectorAll('.walk tbody tr')].find((row) => row.cells[0].innerText.trim() === 'toolpaths').cells[1].querySelector('button').click()"
    )
    time.sleep(1)


def promises(see: Camera) -> None:
    see.go("promises", ".sentence")
    see.press("Draughting must be able to read", ".sentence")
    time.sleep(1)


def findings(see: Camera) -> None:
    see.go("promises?show=findings", ".sentence")
    see.press("keel/training", ".sentence")


def signing_in(see: Camera) -> None:
    see.go("rollout?signin=", ".picks")
    time.sleep(1)


def cannot_get_in(see: Camera) -> None:
    see.go("board?rows=people&who=priya-natarajan&place=training", ".c.RW")
    see.press("Look it up on the appliance", "a")
    see.press("Look it up there")
    time.sleep(1)


def rollout(see: Camera) -> None:
    see.go("rollout", ".step")
    see.press("Read what it has")
    see.press("Roll out")
    see.press("Start", ".ant-modal button")
    see.wait(lambda: "Confirm within" in see.driver.find_element(By.TAG_NAME, "body").text)
    time.sleep(1)


def inside(see: Camera) -> None:
    see.press("Roll back now", ".verdict button")
    see.press("Back to the steps")
    see.press("Look into the folders")
    see.press("Look into all")
    see.wait(lambda: "things different" in see.driver.find_element(By.TAG_NAME, "body").text)
    see.press("/srv/keel/drawings/in-progress", ".sentence")
    time.sleep(1)


TAKEN = [
    begin, board, grants, people, storage, storage_posix, take_in, shares, walk, promises, findings,
    signing_in, cannot_get_in, rollout, inside, board_dark, look_up, needs,
]  # fmt: skip


def main(names: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "yardgate.cli", "demo", "--data", folder, "--port", "8899"]
        served = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        try:
            assert served.stdout is not None
            link = next(found.group() for line in served.stdout if (found := re.search(r"http://\S+link=\S+", line)))
            see = Camera(link)
            for picture in TAKEN:
                name = picture.__name__.replace("_", "-")
                if not names or name in names:
                    picture(see)
                    see.take(name)
            see.driver.quit()
        finally:
            served.terminate()
            served.wait()


if __name__ == "__main__":
    main(sys.argv[1:])
