"""The report in a real browser: it finds, it fits, it asks for nothing, in light and dark, wide and
narrow.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from crossgate.demo import write
from tests.peers import program

_ARGUMENTS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)
_BEYOND = """
return [...document.querySelectorAll('body *')].filter(each => {
  if (each.getBoundingClientRect().right <= document.documentElement.clientWidth + 1) return false;
  for (let above = each.parentElement; above; above = above.parentElement)
    if (['auto', 'scroll'].includes(getComputedStyle(above).overflowX)) return false;
  return true;
}).map(each => each.tagName + ' ' + each.id);
"""


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    """Start Chromium, by its driver."""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = program("chromium")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    for each in _ARGUMENTS:
        options.add_argument(each)
    driver = webdriver.Chrome(options=options, service=Service(program("chromedriver")))
    driver.set_script_timeout(180)  # a slow machine is no fault of the page
    yield driver
    driver.quit()


@pytest.fixture(scope="module")
def report(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Write the demo's report, which nobody changes."""
    folder = tmp_path_factory.mktemp("report")
    write(folder)
    words = ("report", "--at", "mon 12:00")
    subprocess.run([sys.executable, "-m", "crossgate", *words], cwd=folder, check=True)
    return folder / "report.html"


@pytest.fixture
def page(report: Path, browser: Any) -> Any:
    """Open the demo's report."""
    browser.get(f"file://{report}")
    return browser


def seen_at(page: Any, width: int, colours: str) -> None:
    """Show the page so wide, to somebody who prefers these colours."""
    page.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False},
    )
    page.execute_cdp_cmd(
        "Emulation.setEmulatedMedia",
        {"features": [{"name": "prefers-color-scheme", "value": colours}]},
    )


def shown(page: Any) -> int:
    count = page.execute_script(
        "return [...document.querySelectorAll('.row')].filter(each => !each.hidden).length"
    )
    assert isinstance(count, int)
    return count


@pytest.mark.process
def test_search_and_filter_leave_what_fits(page: Any) -> None:
    from selenium.webdriver.common.by import By
    from selenium.webdriver.support.ui import Select

    every = shown(page)
    search = page.find_element(By.ID, "search")
    search.send_keys("telnet kiosk")
    assert 0 < shown(page) < every
    assert page.find_element(By.ID, "shown").text == f"{shown(page)} of {every} shown"
    search.clear()
    search.send_keys(" ")
    assert shown(page) == every
    Select(page.find_element(By.ID, "device")).select_by_visible_text("pier")
    lists = page.execute_script(
        "return [...document.querySelectorAll('.row.block')].filter(each => "
        "!each.hidden).map(each => each.querySelector('h3').textContent)"
    )
    assert lists == ["berth-1-in", "berth-3-in"]


@pytest.mark.process
def test_a_gate_can_be_reached_by_keyboard_and_tells_its_list(page: Any) -> None:
    label = page.execute_script(
        "const gate = document.querySelector('.part'); gate.focus(); return "
        "document.activeElement.getAttribute('aria-label')"
    )
    assert label.startswith("list ")
    assert page.execute_script("return document.querySelectorAll('.part').length") == 14


@pytest.mark.process
@pytest.mark.parametrize("width", [1280, 400])
@pytest.mark.parametrize("colours", ["light", "dark"])
def test_nothing_is_cut_and_colours_follow_the_reader(page: Any, width: int, colours: str) -> None:
    seen_at(page, width, colours)
    assert page.execute_script(_BEYOND) == []
    assert page.execute_script(
        "return document.documentElement.scrollWidth <= document.documentElement.clientWidth"
    )
    paper, bar = page.execute_script(
        "return [getComputedStyle(document.body).backgroundColor, "
        "getComputedStyle(document.querySelector('.picture svg path')).fill]"
    )
    dark = paper == "rgb(18, 23, 28)"
    assert dark is (colours == "dark")
    assert bar == paper  # the picture's paper is the page's


@pytest.mark.process
@pytest.mark.parametrize(("width", "colours"), [(1280, "light"), (390, "dark")])
def test_nothing_serious_stands_in_the_way_of_anybody(page: Any, width: int, colours: str) -> None:
    seen_at(page, width, colours)
    page.execute_script(files("axe_core_python").joinpath("axe.min.js").read_text())
    found = page.execute_async_script(
        "axe.run().then(each => arguments[0](each.violations), each => arguments[0](String(each)))"
    )
    assert [
        (each["id"], each["help"], [node["html"][:200] for node in each["nodes"]][:3])
        for each in found
        if each["impact"] in ("serious", "critical")
    ] == []
    page.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


@pytest.mark.process
def test_what_has_nothing_to_show_is_gone_and_the_picture_dims(page: Any) -> None:
    search = page.find_element("id", "search")
    search.send_keys("kiosk-port")
    hidden = "return [...document.querySelectorAll('section, nav li')].filter(each => each.hidden)"
    assert set(page.execute_script(f"{hidden}.map(each => each.id || each.textContent)")) == {
        "expectations",
        "Expectations",
        "grid",
        "Who reaches whom",
    }
    bright = page.execute_script(
        "return [...document.querySelectorAll('.part:not(.dim)')].map(each => "
        "each.getAttribute('aria-label'))"
    )
    assert [each.split(",")[0] for each in bright] == ["list kiosk-port"]
    search.clear()
    search.send_keys(" ")
    assert page.execute_script(f"{hidden}.length") == 0
    assert page.execute_script("return document.querySelectorAll('.dim').length") == 0


@pytest.mark.process
def test_no_script_fails_and_nothing_is_asked_for(page: Any) -> None:
    import json

    assert [each for each in page.get_log("browser") if each["level"] == "SEVERE"] == []
    asked = [json.loads(each["message"])["message"] for each in page.get_log("performance")]
    urls = [
        each["params"]["request"]["url"]
        for each in asked
        if each["method"] == "Network.requestWillBeSent"
    ]
    assert [each for each in urls if not each.startswith("file:///")] == []


@pytest.mark.process
def test_it_is_whole_without_script(page: Any) -> None:
    page.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    try:
        page.refresh()
        page.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
        assert page.execute_script("return document.getElementById('tools').hidden")
        assert shown(page) > 20
    finally:
        page.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
