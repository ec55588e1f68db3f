"""A report as PDF: the page, as it prints on A4, with text that can be selected and an outline."""

from __future__ import annotations

import logging
from typing import Any

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.problems import fail
from keymallet.reports import page
from keymallet.reports.content import Content
from keymallet.reports.registry import Look


def write(content: Content, look: Look) -> bytes:
    """The document. Raises KeymalletError if what draws it is not installed, or a template is broken.

    Nothing is fetched, whatever a template names: pictures are in the page itself.
    """
    try:
        weasyprint: Any = extra("weasyprint", "pdf", "reports as PDF")
    except OSError:
        hint = "on Debian: apt install libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0"
        raise fail("reports as PDF need the Pango library of the system", hint=hint) from None
    fetcher = extra("weasyprint.urls", "pdf", "reports as PDF").URLFetcher(allowed_protocols=["data"])
    logging.getLogger("weasyprint").setLevel(logging.ERROR)
    html = page.write(content, look._replace(name="")).decode()
    document: bytes = weasyprint.HTML(string=html, url_fetcher=fetcher).write_pdf()
    return document
