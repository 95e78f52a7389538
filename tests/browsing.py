"""A headless browser, gone afterwards."""

from contextlib import contextmanager

from selenium import webdriver

from tests.equipment import need


@contextmanager
def browsing(moor):
    """A browser that keeps what its console says and what it asked for."""
    need("chromium", "chromedriver")
    options = webdriver.ChromeOptions()
    options.binary_location = need("chromium")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    for word in ("--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--no-proxy-server",
                 "--disable-background-networking", "--disable-component-update", "--disable-sync",
                 "--window-size=1280,800", f"--user-data-dir={moor.root / 'browser'}"):  # fmt: skip
        options.add_argument(word)
    service = webdriver.ChromeService(need("chromedriver"), env={**moor.variables, "HOME": str(moor.root)})
    browser = webdriver.Chrome(options=options, service=service)
    try:
        yield browser
    finally:
        browser.quit()
