"""The board in headless Chromium: how soon it shows, how soon an edit does, and how much JavaScript that takes."""

import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

from yardgate.bench import Result, random_plan
from yardgate.core.plan import Plan
from yardgate.demo import plan as demo_plan
from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts

SWITCHES = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--hide-scrollbars", "--lang=en-GB",
)  # fmt: skip

# Milliseconds, on the page's own clock, until the board has drawn its first levels.
FIRST_PAINT = """
window.__painted = null;
new MutationObserver((_, observer) => {
  if (document.querySelector('.c.RW, .c.RO')) { observer.disconnect(); requestAnimationFrame(() => { window.__painted = performance.now(); }); }
}).observe(document, { childList: true, subtree: true });
"""

# Press a key on the grid; milliseconds until the chosen cell looks different and the frame after has begun.
PRESS = """
const [key, done] = arguments;
const grid = document.querySelector('[role=grid]');
grid.focus();
const cell = () => document.querySelector('.c.active');
const before = cell().getAttribute('aria-label');
const start = performance.now();
grid.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }));
const look = () => cell() && cell().getAttribute('aria-label') !== before ? requestAnimationFrame(() => done(performance.now() - start)) : performance.now() - start > 5000 ? done(null) : setTimeout(look, 1);
look();
"""


def chromium(width: int = 1280, height: int = 800) -> Any:
    """Debian's headless Chromium, its page of the size asked for."""
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for switch in (*SWITCHES, f"--window-size={width},{height}"):
        options.add_argument(switch)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    driver.set_window_size(width, 2 * height - driver.execute_script("return innerHeight"))
    driver.set_script_timeout(30)
    return driver


def large_plan() -> Plan:
    """Two thousand rows and three hundred places, as a board."""
    plan = random_plan(users=1900, groups=100, places=300, seed=5)
    return replace(plan, name="large", target=replace(plan.target, within="widest"))


def edit_times(driver: Any, rounds: int = 15) -> list[float]:
    """Milliseconds from key to repaint, for some edits of the chosen cell in the view of grants."""
    times = []
    for number in range(rounds):
        took = driver.execute_async_script(PRESS, "wrn"[number % 3])
        if took is None:
            raise RuntimeError("an edit did not show within five seconds")
        times.append(took)
    return times


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "yardgate.sqlite")
        plans, accounts = Plans(store), Accounts(store)
        demo, large = plans.create(demo_plan(), "bench").id, plans.create(large_plan(), "bench").id
        boss = accounts.add("bench", "administrator")
        command = [sys.executable, "-m", "yardgate.cli", "serve", "--data", folder, "--port", "8739"]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            next(line for line in server.stdout if line.startswith("Yard Gate is at"))
            return _measure("http://127.0.0.1:8739", accounts.link(boss.id), demo, large)
        finally:
            server.terminate()
            server.wait()
            store.close()


def _measure(address: str, link: str, demo: str, large: str) -> list[Result]:
    driver = chromium()
    try:
        driver.get(f"{address}/sign-in?link={link}")
        _wait(driver, "return !location.pathname.includes('sign-in')")
        driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": FIRST_PAINT})
        paints = []
        for _ in range(7):
            driver.execute_cdp_cmd("Network.clearBrowserCache", {})
            driver.get(f"{address}/p/{demo}/board?view=effect")
            paints.append(_wait(driver, "return window.__painted"))
        scripts = driver.execute_script(
            "return performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).reduce((sum, e) => sum + e.encodedBodySize, 0)"
        )
        driver.get(f"{address}/p/{demo}/board?view=grants&who=mira-oyelaran&place=photos")
        _wait(driver, "return document.querySelector('.c.active')")
        small = edit_times(driver)
        driver.get(f"{address}/p/{large}/board?view=grants&rows=people&who=u7&place=p7")
        _wait(driver, "return document.querySelector('.c.active')")
        big = edit_times(driver)
    finally:
        driver.quit()
    return [
        Result("demo board, first useful paint, median of 7, cold cache", f"{statistics.median(paints):.0f} ms", ""),
        Result("JavaScript first loaded, compressed", f"{scripts / 1000:.0f} kB", "under 450 kB"),
        Result("demo board, edit to repaint, median of 15", f"{statistics.median(small):.0f} ms", "under 100 ms"),
        Result(
            "2,000 × 300 board, edit to repaint, median of 15 (worst)",
            f"{statistics.median(big):.0f} ms ({max(big):.0f} ms)",
            "under 300 ms",
        ),
    ]


def _wait(driver: Any, script: str, seconds: float = 20) -> Any:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if found := driver.execute_script(script):
            return found
        time.sleep(0.02)
    raise RuntimeError(f"the page did not get there: {script}")
