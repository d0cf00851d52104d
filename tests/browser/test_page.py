"""The page in a real browser: it sorts, filters, leads to events, prints, and does nothing else."""

from __future__ import annotations

import base64
import csv
import io
import json
import os
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from pypdf import PdfReader
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait

from fermata.api.result import Result
from fermata.api.workspace import Workspace
from fermata.reports.definition.report import Report
from tests.conftest import Maker, plain, raw
from tests.test_outputs import HOSTILE

Driver = Any


@pytest.fixture(scope="module")
def driver() -> Iterator[Driver]:
    browser, control = shutil.which("chromium"), shutil.which("chromedriver")
    if not (browser and control):
        if "FERMATA_NO_SKIPS" in os.environ:
            pytest.fail("chromium and chromedriver are not installed (Debian: chromium, chromium-driver)")
        pytest.skip("needs chromium and chromedriver (Debian: chromium, chromium-driver)")
    options = webdriver.ChromeOptions()
    for argument in ("--headless=new", "--no-sandbox", "--window-size=1280,800"):
        options.add_argument(argument)
    options.binary_location = browser
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    found = webdriver.Chrome(options=options, service=webdriver.ChromeService(control))
    yield found
    found.quit()


def opened(driver: Driver, path: Path, width: int = 1280) -> Driver:
    """The page in a window of that width."""
    driver.get_log("performance")
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    driver.get(path.as_uri())
    return driver


def quiet(driver: Driver) -> None:
    """No error on the console, no request but for the page itself."""
    assert driver.get_log("browser") == []
    urls = []
    for entry in driver.get_log("performance"):
        message = json.loads(entry["message"])["message"]
        if message["method"] == "Network.requestWillBeSent":
            urls.append(message["params"]["request"]["url"])
    assert [u for u in urls if not u.startswith(("file://", "data:image/svg+xml"))] == []
    assert len([u for u in urls if u.startswith("file://")]) <= 1


def column(driver: Driver, n: int) -> list[str]:
    """The visible texts of a column's cells, group rows included."""
    rows = driver.find_elements(By.CSS_SELECTOR, "main tbody tr")
    return [r.find_elements(By.XPATH, "./*")[n].text for r in rows if r.is_displayed()]


@pytest.fixture(scope="module")
def refused(hall: Workspace, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return hall.report("refused-entries").save(tmp_path_factory.mktemp("page") / "refused.html")


def test_sort_filter_open_and_close(driver: Driver, refused: Path) -> None:
    """Headers sort groups and the rows within, a filter keeps rows and says of how many, groups open and close."""
    page = opened(driver, refused)
    before = column(page, 2)
    heads = page.find_elements(By.CSS_SELECTOR, "thead button")
    heads[2].click()
    assert page.find_elements(By.CSS_SELECTOR, "thead th")[2].get_attribute("aria-sort") == "ascending"
    groups = [
        int(b.find_element(By.CSS_SELECTOR, "tr .n").text) for b in page.find_elements(By.CSS_SELECTOR, "main tbody")
    ]
    assert groups == sorted(groups)
    heads[2].click()
    assert [
        int(b.find_element(By.CSS_SELECTOR, "tr .n").text) for b in page.find_elements(By.CSS_SELECTOR, "main tbody")
    ] == groups[::-1]
    heads[2].click()
    assert column(page, 2) == before
    page.find_element(By.CSS_SELECTOR, "input").send_keys("foyer")
    assert [t for t in column(page, 1) if t] == ["Foyer east", "Foyer west"]
    assert page.find_element(By.CSS_SELECTOR, "main output").text.startswith("2 rows shown; totals are of all ")
    page.find_element(By.CSS_SELECTOR, "input").send_keys(Keys.BACKSPACE * 5)
    page.find_element(By.CSS_SELECTOR, ".tools .close").click()
    toggles = page.find_elements(By.CSS_SELECTOR, ".toggle")
    assert {t.get_attribute("aria-expanded") for t in toggles} == {"false"}
    assert "Stage door" not in column(page, 1)
    toggles[0].click()
    assert "Stage door" in column(page, 1)
    quiet(page)


def test_a_figure_leads_to_its_events(driver: Driver, refused: Path, hall: Workspace) -> None:
    """With the keyboard: a figure opens the list of its events with file and record, Escape closes it, the focus
    returns.
    """
    page = opened(driver, refused)
    figure = next(r for r in page.find_elements(By.CSS_SELECTOR, "tbody tr") if "Score vault" in r.text).find_element(
        By.CSS_SELECTOR, "button.f"
    )
    expected = sum(r["Reader"] == "Score vault" and r["Event"] == "NO ENTRY" for r in raw(hall, "doors-2026-03.csv"))
    assert figure.text == str(expected)
    figure.send_keys(Keys.ENTER)
    dialog = page.find_element(By.CSS_SELECTOR, "dialog")
    WebDriverWait(page, 5).until(lambda _: dialog.is_displayed())
    assert dialog.find_element(By.CSS_SELECTOR, "h2").text == f"Refused {expected}: Library, Score vault"
    rows = dialog.find_elements(By.CSS_SELECTOR, "tbody tr")
    assert len(rows) == expected
    assert all("incoming/doors-2026-03.csv" in r.text and "Score vault" in r.text for r in rows)
    assert dialog.find_element(By.CSS_SELECTOR, "output").text == f"1 to {expected} of {expected} rows"
    page.switch_to.active_element.send_keys(Keys.ESCAPE)
    assert not dialog.is_displayed()
    assert page.switch_to.active_element == figure
    quiet(page)


def test_on_paper_everything_is_there(driver: Driver, refused: Path) -> None:
    """Closed groups print, buttons do not, the total stands once at the end."""
    page = opened(driver, refused)
    page.find_element(By.CSS_SELECTOR, ".tools .close").click()
    data = page.execute_cdp_cmd("Page.printToPDF", {"preferCSSPageSize": True})["data"]
    text = "\n".join(p.extract_text() for p in PdfReader(io.BytesIO(base64.b64decode(data))).pages)
    for wanted in ("Stage door", "Foyer west", "Refused", "exactly 2026-03-01"):
        assert wanted in text
    assert "Close all" not in text
    assert "Filter" not in text


@pytest.mark.parametrize("width", [1280, 400])
def test_nothing_is_cut(driver: Driver, refused: Path, hall: Workspace, tmp_path: Path, width: int) -> None:
    """The page itself never scrolls sideways, wide tables do so in a region of their own."""
    wide = hall.report("timesheet").save(tmp_path / "wide.html")
    for path in (refused, wide, hall.report("overview").save(tmp_path / "overview.html")):
        page = opened(driver, path, width)
        assert page.execute_script("return document.documentElement.scrollWidth") <= width
        assert page.execute_script(
            "return [...document.querySelectorAll('.scroll')].every(s => s.tabIndex === 0 && "
            "(s.getAttribute('aria-label') || s.getAttribute('aria-labelledby')))"
        )
        quiet(page)


def test_hostile_text_stays_text(driver: Driver, make: Maker, tmp_path: Path) -> None:
    """What an attacker would log is shown as it is, on the page and among the events behind a figure."""
    text = io.StringIO()
    csv.writer(text).writerows(
        [
            ["When", "Who", "Door"],
            *(["2026-03-02 10:00:00", bad[:300], f"d{n}"] for n, bad in enumerate(HOSTILE.values())),
        ]
    )
    house = make(plain(), doors=text.getvalue())
    house.archive.import_log("doors")
    page = opened(
        driver, house.log("doors").by("user").measure("count").titled(HOSTILE["end"]).run().save(tmp_path / "h.html")
    )
    assert (
        page.execute_script(
            'return document.querySelectorAll(\'main script:not([type="application/json"]), main style, main '
            "img[src=x]').length"
        )
        == 0
    )
    shown = column(page, 0)
    assert HOSTILE["markup"] in shown
    assert HOSTILE["end"] in shown
    assert page.find_element(By.CSS_SELECTOR, "h1").text == HOSTILE["end"]
    for button in page.find_elements(By.CSS_SELECTOR, "tbody button.f"):
        button.click()
        page.find_element(By.CSS_SELECTOR, ".shut").click()
    quiet(page)


def test_a_long_listing(driver: Driver, hall: Workspace, tmp_path: Path) -> None:
    """Rows are set out a screen at a time, sorted and filtered over all of them."""
    listed = Result(hall.listing(Report(log="doors", period="2026-03")), hall.base.place())
    page = opened(driver, listed.save(tmp_path / "l.html"))
    said = page.find_element(By.CSS_SELECTOR, "main output")
    total = f"{len(listed.rows):,}"
    assert said.text == f"the first 200 of {total} rows"

    def waited(text: str) -> None:
        WebDriverWait(page, 10).until(lambda _: said.text == text, f"{said.text!r} is not {text!r}")

    page.find_element(By.CSS_SELECTOR, "main .next").click()
    waited(f"201 to 400 of {total} rows")
    assert column(page, 0)[0] == str(listed.rows[200][0].replace(tzinfo=None))  # in March the zone is at UTC
    page.find_elements(By.CSS_SELECTOR, "thead button")[1].click()
    waited(f"1 to 200 of {total} rows")
    assert column(page, 1)[0] == "Ada Ørskov"  # people's order, in which Ø stands beside O
    page.find_element(By.CSS_SELECTOR, "input").send_keys("score vault")
    count = sum(r["Reader"] == "Score vault" for r in raw(hall, "doors-2026-03.csv"))
    matching = sum("Score vault" in (str(c) for c in r) for r in listed.rows)
    assert 0 < matching <= count
    waited(f"1 to {min(200, matching)} of {matching} rows of all {total}")
    quiet(page)


def test_dark_and_light(driver: Driver, refused: Path) -> None:
    """The page follows the reader's colours, its chart too; printed it is light."""
    page = opened(driver, refused)
    for scheme, dark in (("dark", True), ("light", False)):
        page.execute_cdp_cmd(
            "Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
        )
        ground = page.execute_script("return getComputedStyle(document.documentElement).backgroundColor")
        assert (sum(map(int, ground[4:-1].split(","))) < 200) is dark
        night = page.execute_script("return document.querySelector('picture source').srcset")
        source = "return document.querySelector('picture img').currentSrc"
        seen = [page.execute_script(source) == night]
        for _ in range(100):  # a browser loads the other picture a moment after the colours
            if seen[-1] is dark:
                break
            time.sleep(0.1)
            seen.append(page.execute_script(source) == night)
        assert seen[-1] is dark
    page.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})
