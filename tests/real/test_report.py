"""The page in a real browser: no errors, no requests, the keyboard, dark, narrow, printed; names that would harm it are text."""

import base64
import json
import xml.etree.ElementTree as tree

import pytest
from selenium.webdriver.common.keys import Keys

from tests.browsing import browsing
from tests.conftest import make_environment
from tests.equipment import NEW, OTHER

HARM = ["<img src=x onerror=alert(1)>", "</script><script>document.title='taken'</script>", "{{ 7*7 }}{% raw %}", "a\u202egnp\u200f.exe",
        "b\x1b[31mred\x07", "\"' onmouseover='x", "]]></title><svg onload=alert(1)>", "&lt;b&gt;&amp;"]  # fmt: skip


@pytest.fixture
def report(moor, tmp_path):
    for name, version in (("orchard", NEW), ("heath", OTHER)):
        make_environment(version, moor.root / name, "--without-pip")
    start = [str(moor.root / "heath/bin/python"), "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    moor.kernel("orchard-spring", start)
    for number, name in enumerate(HARM):
        spec = {"argv": [f"/no/{name.replace('/', '')}/python"] if number % 2 else start, "display_name": name, "language": "python"}
        folder = moor.data / "kernels" / f"harm{number}"
        folder.mkdir(parents=True)
        (folder / "kernel.json").write_text(json.dumps(spec))
        moor.notebook(f"{name.replace('/', '')}.ipynb", "orchard-spring")
    moor.variables |= {"PATH": f"{moor.root}/orchard/bin:/usr/bin:/bin", "KALYX_ONLY_BELOW": str(moor.root)}
    return tmp_path / "moor.html"


def test_in_a_browser(moor, report):
    made = moor.kalyx("report", "-o", report, "--why", "statistics", "--why", "<b>gone</b> --in kernel:harm0", "--json")
    assert made.status == 2 and not report.exists(), "what is no import is refused, as why does"
    made = moor.kalyx("report", "-o", report, "--why", "statistics", "--why", "lonely_meadow --in kernel:harm0", "--json")
    assert made.status == 0 and made.json["done"] and made.json["findings"] > 3, made.err
    with browsing(moor) as browser:
        browser.get(report.as_uri())
        assert [line for line in browser.get_log("browser") if line["level"] != "INFO"] == []
        asked = [json.loads(line["message"])["message"] for line in browser.get_log("performance")]
        sent = {item["params"]["request"]["url"] for item in asked if item["method"] == "Network.requestWillBeSent"}
        # (Its own first page asks for its own parts.)
        assert {url for url in sent if not url.startswith(("chrome", "data:"))} == {report.as_uri()}, sent
        # What would be markup is text; what would steer a terminal or turn the line round is written out.
        assert browser.title.startswith("Kalyx: ") and browser.execute_script("return document.images.length + document.scripts.length") == 1
        said = browser.find_element("tag name", "body").get_attribute("textContent")
        for name in HARM:
            shown = name.replace("\u202e", "\\u202e").replace("\u200f", "\\u200f").replace("\x1b", "\\x1b").replace("\x07", "\\x07")
            assert shown in said, shown
        assert not set("\u202e\u200f\x1b\x07") & set(said) and "onmouseover" not in str(browser.execute_script("return [...document.querySelectorAll('*')].map(e => e.getAttributeNames()).flat()"))
        # The keyboard alone: to the map, to a seat, its way is shown; Escape puts it out.
        body = browser.find_element("tag name", "body")
        for _ in range(60):
            browser.switch_to.active_element.send_keys(Keys.TAB)
            if "seat" in (browser.switch_to.active_element.get_attribute("class") or ""):
                break
        seat = browser.switch_to.active_element
        assert seat.get_attribute("aria-label").endswith(": agrees with the reference")
        assert "the reference" in browser.find_element("css selector", ".peek article").text and browser.find_elements("css selector", ".map .way.lit")
        body.send_keys(Keys.ESCAPE)
        assert not browser.find_elements("css selector", ".map.picking")
        # The table says what the map draws.
        rows = browser.execute_script("return [...document.querySelectorAll('#map tbody tr')].map(r => r.cells[0].textContent)")
        seats = browser.execute_script("return [...document.querySelectorAll('.map a.seat')].map(s => s.dataset.seats.split(' ')).flat()")
        assert len(rows) == made.json["seats"] and sorted(map(int, seats)) == list(range(made.json["seats"]))
        # A line to paste is given to the clipboard whole, or the page says to select it.
        button = browser.find_element("css selector", "button.copy")
        browser.execute_script("arguments[0].click()", button)
        assert browser.execute_async_script("setTimeout(() => arguments[1](arguments[0].textContent), 300)", button) in ("copied", "select it")
        # Every link on the page leads somewhere on the page.
        broken = browser.execute_script("return [...document.querySelectorAll('a')].map(a => a.getAttribute('href')).filter(h => h[0] !== '#' || !document.getElementById(h.slice(1)))")
        assert broken == []
        light = browser.execute_script("return getComputedStyle(document.body).backgroundColor")
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": [{"name": "prefers-color-scheme", "value": "dark"}]})
        assert browser.execute_script("return getComputedStyle(document.body).backgroundColor") != light
        browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": True})
        assert browser.execute_script("return document.documentElement.scrollWidth") <= 390
        printed = base64.b64decode(browser.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})["data"])
        assert printed.startswith(b"%PDF") and len(printed) > 20_000
        drawing = report.with_suffix(".svg")
        assert moor.kalyx("report", "-o", drawing).status == 0
        browser.get(drawing.as_uri())
        assert browser.execute_script("return document.documentElement.querySelectorAll('.seat').length") > 5
    assert tree.parse(drawing).getroot().tag == "{http://www.w3.org/2000/svg}svg"


def test_only_a_page_of_its_own_is_written_over(moor, report):
    report.write_text("my own notes")
    refused = moor.kalyx("report", "-o", report)
    assert refused.status == 2 and refused.err.count("\n") == 1 and report.read_text() == "my own notes"
    assert moor.kalyx("report", "-o", report.with_suffix(".txt")).status == 2
    assert moor.kalyx("report", "-o", report, "--dry-run", "--yes").status == 0 and report.read_text() == "my own notes"
    for _ in range(2):
        assert moor.kalyx("report", "-o", report.with_suffix(".svg")).status == 0
    for number, words in enumerate((["--why", "- --in heath"], ["--why", "x --fix"], ["--why", "x --everywhere"], ["--why", "'x --in y"])):
        ran = moor.kalyx("report", "-o", report.with_name(f"{number}.html"), *words)
        assert ran.status == 2 and ran.err.count("\n") == 1, ran.err
    for name in ("windows-larkmoor", "macos-larkmoor", "cluster-larkmoor"):
        page = report.with_name(f"{name}.html")
        made = moor.kalyx("report", "-o", page, "--on", name, "--why", "hivescale", "--json")
        assert made.status == 0 and made.json["seats"] >= 4 and len(page.read_text()) < 200_000
        assert ("hivescale" in page.read_text()) and str(moor.root) not in page.read_text(), "nothing of this machine is on it"
