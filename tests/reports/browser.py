"""A real browser that looks at pages, and the judge of accessibility that runs in it; neither is ours."""

from __future__ import annotations

import os
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, sync_playwright

from tests.oracles import install, missing

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
    """The script of axe-core, fetched once a machine from the registry of its packages."""
    kept = Path(tempfile.gettempdir()) / f"keymallet-axe-{os.getuid()}"
    script = kept / "package/axe.min.js"
    if not script.exists():
        if shutil.which("npm") is None:
            missing("axe-core comes with npm, which is not here")
        kept.mkdir(exist_ok=True)
        words = ["npm", "pack", "--silent", "axe-core@4.14.1"]
        done = subprocess.run(words, cwd=kept, capture_output=True, text=True, check=False)
        if done.returncode != 0:
            missing(f"axe-core cannot be fetched: {done.stderr.strip()[-200:]}")
        with tarfile.open(next(kept.glob("axe-core-*.tgz"))) as packed:
            packed.extractall(kept, filter="data")
    return script.read_text("utf-8")


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
