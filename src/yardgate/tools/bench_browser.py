"""The board in headless Chromium: how soon it shows, how soon an edit does, and how much JavaScript that takes."""

import random
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from yardgate.core.acl.rights import Level
from yardgate.core.directory.sync import sync
from yardgate.core.edits.apply import apply
from yardgate.core.edits.records import SetGrant
from yardgate.core.model.directory import AccountRecord, Directory, Ref
from yardgate.core.model.plan import Plan
from yardgate.demo import plan as demo_plan
from yardgate.store import Plans, Store
from yardgate.store.accounts import Accounts
from yardgate.tools.bench import Result, random_plan

LEVELS = (Level.RW, Level.RO, Level.NA)
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


# Type into the picker of members; milliseconds until a name that has it is shown and the frame after has begun.
PICK = """
const [text, done] = arguments;
const input = document.querySelector('[aria-label=Members]');
input.focus();
const start = performance.now();
Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(input, text);
input.dispatchEvent(new Event('input', { bubbles: true }));
const look = () => [...document.querySelectorAll('.ant-select-item-option-content')].some((option) => option.textContent.includes(text)) ? requestAnimationFrame(() => done(performance.now() - start)) : performance.now() - start > 5000 ? done(null) : setTimeout(look, 1);
look();
"""


# When this page's chosen cell first says something else, on the clock of the machine, in milliseconds.
WATCH = """
const cell = () => document.querySelector('.c.active')?.getAttribute('aria-label');
const before = cell();
window.__changed = null;
new MutationObserver(() => { if (!window.__changed && cell() && cell() !== before) window.__changed = Date.now(); }).observe(document.body, { subtree: true, attributes: true, childList: true });
"""


# Do something; milliseconds until something else can be seen and the frame after has begun.
TIMED = """
const [act, seen, done] = arguments;
const shown = new Function('return ' + seen);
const start = performance.now();
new Function(act)();
const look = () => shown() ? requestAnimationFrame(() => done(performance.now() - start)) : performance.now() - start > 10000 ? done(null) : setTimeout(look, 1);
look();
"""
TYPE = """const field = document.querySelector("[aria-label='{label}']");
Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(field, '{text}');
field.dispatchEvent(new Event('input', {{ bubbles: true }}));"""
PRESS_BUTTON = "[...document.querySelectorAll('{within} button')].find(b => b.textContent.includes('{text}')).click()"


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
    driver.set_script_timeout(60)
    return driver


def large_plan() -> Plan:
    """Two thousand rows and three hundred places, as a board."""
    plan = random_plan(users=1900, groups=100, places=300, seed=5)
    return replace(plan, name="large", target=replace(plan.target, combining="widest"))


def joined_plan(users: int = 20_000, groups: int = 2_000) -> Plan:
    """The places of the large board, and a domain of some size that is joined to it."""
    rng = random.Random(3)
    plan = replace(random_plan(users=100, groups=20, places=300, seed=5), name="joined")
    directory = Directory(id="domain", name="DOMAIN", domain="domain.example")
    sid = "S-1-5-21-1-2-3"
    people = [
        AccountRecord(key=f"{sid}-{1000 + n}", sid=f"{sid}-{1000 + n}", dn=f"CN=p{n}", kind="person", name=f"person{n}")
        for n in range(users)
    ]
    made = []
    for n in range(groups):
        refs = tuple(Ref("dn", f"CN=p{member}") for member in rng.sample(range(users), 40))
        made.append(
            AccountRecord(
                key=f"{sid}-{users + 1000 + n}",
                sid=f"{sid}-{users + 1000 + n}",
                dn=f"CN=g{n}",
                kind="group",
                name=f"crew{n}",
                members=refs,
            )
        )
    after, _ = apply(plan, sync(plan, directory, [*people, *made]).edits)
    return after


def edit_times(driver: Any, rounds: int = 15) -> list[float]:
    """Milliseconds from key to repaint, for some edits of the chosen cell in the view of grants."""
    times = []
    for number in range(rounds):
        took = driver.execute_async_script(PRESS, "wrn"[number % 3])
        if took is None:
            raise RuntimeError("an edit did not show within five seconds")
        times.append(took)
    return times


def heard(driver: Any, plans: Plans, plan: str, rounds: int = 7) -> list[float]:
    """Milliseconds from an edit being kept, by somebody else, to the chosen cell looking different here."""
    times = []
    for number in range(rounds):
        driver.execute_script(WATCH)
        plans.commit(plan, plans.open(plan).revision, [SetGrant("photos", "mira-oyelaran", LEVELS[number % 3])], "Bo")
        shown = _wait(driver, "return window.__changed")
        times.append(shown - 1000 * datetime.fromisoformat(plans.history(plan, most=1)[0].at).timestamp())
    return times


def many_times(driver: Any, address: str, plan: str, rounds: int = 5) -> dict[str, list[float]]:
    """Milliseconds, on the large plan: filter the board; choose some 500 people; see what an act on them would do; do it; undo it."""
    times: dict[str, list[float]] = {}

    def timed(what: str, act: str, seen: str) -> None:
        took = driver.execute_async_script(TIMED, act, seen)
        if took is None:
            raise RuntimeError(f"{what}: nothing came of it")
        times.setdefault(what, []).append(took)

    text = "document.querySelector('[role=grid] .corner').textContent"  # asks for no layout, unlike innerText
    driver.get(f"{address}/p/{plan}/board?rows=people&rq=u&kind=person")
    _wait(driver, f"return document.querySelector('[role=grid] .corner') && /1,900/.test({text})")
    for number in range(rounds):
        word = ("u12", "u7")[number % 2]
        timed("filter", TYPE.format(label="Only rows with", text=word), f"/1?11 of [0-9,]+ rows/.test({text})")
        timed("all again", TYPE.format(label="Only rows with", text="u"), f"/(^|[^f] )1,900 rows/m.test({text})")
    driver.get(f"{address}/p/{plan}/people?show=people")
    _wait(driver, "return document.querySelector('[role=grid] .rowhead')")
    driver.execute_script(TYPE.format(label="Only names with", text="9"))
    _wait(driver, "return document.querySelector(\"[aria-label^='Choose all']\")")
    time.sleep(1)
    shut = "document.querySelector('[role=grid]').textContent.split('disabled').length"
    before = driver.execute_script(f"return {shut}")
    for _ in range(rounds):
        timed(
            "choose",
            "document.querySelector(\"[aria-label^='Choose all']\").click()",
            "/ chosen/.test(document.querySelector('.tools.selected')?.textContent)",
        )
        opening = PRESS_BUTTON.format(within=".selected", text="Disable")
        ready = "/(cells|nothing)/.test(document.querySelector('.ant-modal')?.textContent)"
        timed("preview", opening, ready)
        doing = "document.querySelector('.ant-modal .ant-modal-footer .ant-btn-primary').click()"
        timed("act", doing, f"{shut} > {before}")
        undoing = PRESS_BUTTON.format(within="", text="Undo")
        timed("undo", undoing, f"{shut} == {before}")
        driver.execute_script(PRESS_BUTTON.format(within=".selected", text="Let go"))
        time.sleep(0.5)
    return times


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "yardgate.sqlite")
        plans, accounts = Plans(store), Accounts(store)
        demo, large = plans.create(demo_plan(), "bench").id, plans.create(large_plan(), "bench").id
        joined = plans.create(joined_plan(), "bench").id
        boss = accounts.add("bench", "administrator")
        command = [sys.executable, "-m", "yardgate.cli", "serve", "--data", folder, "--port", "8761"]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            next(line for line in server.stdout if line.startswith("Yard Gate is at"))
            results = _measure(plans, "http://127.0.0.1:8761", accounts.link(boss.id), demo, large, joined)
            status = Path(f"/proc/{server.pid}/status").read_text()
            memory = int(next(line.split()[1] for line in status.splitlines() if line.startswith("VmHWM"))) / 1024
            return [
                *results,
                Result("peak memory of the server with all three plans", f"{memory:.0f} MiB", "under 600 MiB"),
            ]
        finally:
            server.terminate()
            server.wait()
            store.close()


def _measure(plans: Plans, address: str, link: str, demo: str, large: str, joined: str) -> list[Result]:
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
        news = heard(driver, plans, demo)
        driver.get(f"{address}/p/{large}/board?view=grants&rows=people&who=u7&place=p7")
        _wait(driver, "return document.querySelector('.c.active')")
        big = edit_times(driver)
        many = many_times(driver, address, large)
        driver.get(f"{address}/p/{joined}/board?view=grants&rows=people&who=u7&place=p7")
        _wait(driver, "return document.querySelector('.c.active')")
        with_domain = edit_times(driver)
        driver.get(f"{address}/p/{joined}/people?who=g1")
        _wait(driver, "return document.querySelector('[aria-label=Members]')")
        picks = [
            driver.execute_async_script(PICK, f"person{number}") for number in (7, 123, 4567, 19_999, 31, 8_888, 555)
        ]
    finally:
        driver.quit()
    return [
        Result("demo board, first useful paint, median of 7, cold cache", f"{statistics.median(paints):.0f} ms", ""),
        Result("JavaScript first loaded, compressed", f"{scripts / 1000:.0f} kB", "under 450 kB"),
        Result("demo board, edit to repaint, median of 15", f"{statistics.median(small):.0f} ms", "under 100 ms"),
        Result(
            "demo board, somebody else's edit kept to shown, median of 7 (worst)",
            f"{statistics.median(news):.0f} ms ({max(news):.0f} ms)",
            "under 1000 ms",
        ),
        Result(
            "2,000 × 300 board, edit to repaint, median of 15 (worst)",
            f"{statistics.median(big):.0f} ms ({max(big):.0f} ms)",
            "under 300 ms",
        ),
        *(
            Result(
                f"2,000 × 300, {what}, median of {len(took)} (worst)",
                f"{statistics.median(took):.0f} ms ({max(took):.0f} ms)",
                "under 300 ms",
            )
            for what, took in many.items()
        ),
        Result(
            "22,000 accounts of a domain × 300, edit to repaint, median of 15 (worst)",
            f"{statistics.median(with_domain):.0f} ms ({max(with_domain):.0f} ms)",
            "under 300 ms",
        ),
        Result(
            "picking one of 22,000 accounts, key to shown, median of 7 (first)",
            f"{statistics.median(picks):.0f} ms ({picks[0]:.0f} ms)",
            "under 100 ms",
        ),
    ]


def _wait(driver: Any, script: str, seconds: float = 20) -> Any:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if found := driver.execute_script(script):
            return found
        time.sleep(0.02)
    raise RuntimeError(f"the page did not get there: {script}")
