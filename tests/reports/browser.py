"""A real browser that looks at pages, and the judge of accessibility that runs in it; neither is ours."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, sync_playwright

from tests.oracles import install, missing, package_of_npm

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def chromium() -> str:
    """The browser; installed first if need and possible, else the test is skipped."""
    if shutil.which("chromium") is None:
        install("chromium")
    return shutil.which("chromium") or missing("chromium is not here, though its package is")


def axe() -> str:
    """The script of axe-core."""
    return (package_of_npm("axe-core@4.14.1") / "axe.min.js").read_text("utf-8")


@contextmanager
def opened(path: Path, **context: Any) -> Iterator[tuple[Page, list[str]]]:
    """A page from disk in the browser, and every request it makes beyond the file itself."""
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=chromium(), args=FLAGS)
        page = browser.new_context(**context).new_page()
        requests: list[str] = []

        def noted(route: Any) -> None:
            if route.request.url.startswith(("file:", "data:")):
                route.continue_()
            else:
                requests.append(route.request.url)
                route.abort()

        page.route("**/*", noted)
        page.goto(path.as_uri())
        yield page, requests
        browser.close()
