"""The notebook page as a user sees it: choose a kernel that Kalyx registered, run a cell, and the table agrees."""

import json
import subprocess

import pytest
from selenium.common.exceptions import TimeoutException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select, WebDriverWait

from tests.browsing import browsing
from tests.conftest import started, until
from tests.real.test_kernels import provided  # noqa: F401


@pytest.fixture
def page(moor, provided):  # noqa: F811
    """A headless browser and the address of the real notebook page's server, both gone afterwards."""
    words = [provided, "-m", "notebook", "--allow-root", "--no-browser", "--port=0",
             "--IdentityProvider.token=honey-token", f"--ServerApp.root_dir={moor.folder}"]  # fmt: skip
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with started(words, env=moor.variables, **quiet) as server, browsing(moor) as browser:
        yield browser, said_by_server(moor, server)["url"]


def said_by_server(moor, server) -> dict:
    """What a starting notebook server writes of itself, once it has written it."""

    def whole() -> dict | None:
        assert server.poll() is None, "the server ended"
        files = list(moor.data.glob("runtime/jpserver-*.json"))
        text = files[0].read_text() if files else ""
        return json.loads(text) if text.endswith("}") else None

    return until(whole, "the server's own file", 60)


def test_a_kernel_chosen_on_the_page_is_what_here_says(moor, provided, page):  # noqa: F811
    assert moor.kalyx("register", provided, "--id", "orchard", "--label", "Orchard of the moor", "--yes").status == 0
    empty = {"cells": [], "metadata": {}, "nbformat": 4, "nbformat_minor": 5}
    (moor.folder / "spring.ipynb").write_text(json.dumps(empty))
    before = next(item for item in moor.kalyx("here", "--json").json["seats"] if item["seat"] == "notebook")
    assert before["interpreter"] is None and before["reason"] == "it names no kernel"
    browser, url = page
    browser.get(f"{url}notebooks/spring.ipynb?token=honey-token")
    wait = WebDriverWait(browser, 60)
    chooser = wait.until(lambda b: b.find_element(By.CSS_SELECTOR, ".jp-Dialog select"))
    Select(chooser).select_by_visible_text("Orchard of the moor")
    browser.find_element(By.CSS_SELECTOR, ".jp-Dialog .jp-mod-accept").click()
    cell = wait.until(lambda b: b.find_element(By.CSS_SELECTOR, ".jp-CodeCell .cm-content"))
    wait.until(lambda b: not b.find_elements(By.CSS_SELECTOR, ".jp-Dialog"))
    cell.click()
    cell.send_keys("import os, sys; print(sys.executable, sys.prefix, os.getpid())", Keys.SHIFT, Keys.ENTER)
    for _ in range(3):  # keys that arrive while the page connects to the kernel run nothing
        try:
            said = WebDriverWait(browser, 20).until(lambda b: b.find_element(By.CSS_SELECTOR, ".jp-OutputArea-output").text)
            break
        except TimeoutException:
            browser.find_element(By.CSS_SELECTOR, ".jp-CodeCell .cm-content").click()
            browser.find_element(By.CSS_SELECTOR, ".jp-CodeCell .cm-content").send_keys(Keys.SHIFT, Keys.ENTER)
    executable, prefix, pid = said.split()
    seat = next(item for item in moor.kalyx("here", "--json").json["seats"] if item["seat"] == "notebook")
    assert (seat["interpreter"]["executable"], seat["environment"]["prefix"], seat["pid"]) == (
        executable, prefix, int(pid),
    )  # fmt: skip
    assert executable == provided
    browser.find_element(By.TAG_NAME, "body").send_keys(Keys.CONTROL, "s")
    saved = moor.folder / "spring.ipynb"
    until(lambda: "kernelspec" in json.loads(saved.read_text() or "{}").get("metadata", {}), "the notebook saved", 10)
    closed = moor.kalyx("why", "hivescale", "--in", "spring.ipynb", "--json").json
    assert closed["imports"][0]["outcome"] == "imports"
