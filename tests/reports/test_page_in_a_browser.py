"""The page as people meet it: in a browser, with a keyboard, on a telephone, in the dark, on paper."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.reports.browser import axe, opened


@pytest.fixture
def page_file(reports: Path) -> Path:
    return reports / "report.html"


@pytest.mark.parametrize(
    ("scheme", "widths"),
    [("light", (320, 768, 1280)), pytest.param("dark", (320, 1280), marks=pytest.mark.deep)],
)
def test_axe_finds_nothing(page_file: Path, scheme: str, widths: tuple[int, ...]) -> None:
    """Every rule of axe, in light and dark, from a telephone to a desk; 320 is also 1280 at 400% zoom."""
    with opened(page_file, color_scheme=scheme) as (page, requests):
        for details in page.locator("details").all()[:8]:
            details.evaluate("each => each.open = true")
        page.evaluate(axe())
        for width in widths:
            page.set_viewport_size({"width": width, "height": 800})
            result: dict[str, Any] = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
            found = [
                (each["id"], [node["target"] for node in each["nodes"]][:3]) for each in result["violations"]
            ]
            assert found == [], width
            wider = page.evaluate(
                "document.documentElement.scrollWidth - document.documentElement.clientWidth"
            )
            assert wider <= 0, "nothing has to be scrolled sideways"
        assert requests == []


def test_search_and_filters(page_file: Path) -> None:
    """They hide what does not fit, say how many are left, and leave nothing out."""
    with opened(page_file, viewport={"width": 1280, "height": 800}) as (page, _):
        shown = page.locator("#list > li:visible")
        assert shown.count() == 295 and page.inner_text("#count") == "295 findings"
        page.fill("#q", "emergency-2")
        assert shown.count() == 14 and page.inner_text("#count") == "14 of 295 findings"
        page.select_option("#severity", "critical")
        assert 0 < shown.count() < 14
        page.fill("#q", "")
        assert shown.count() == 31
        page.select_option("#severity", "")
        page.select_option("#state", "late")
        assert shown.count() == 85
        page.select_option("#answerer", "information security")
        assert shown.count() == 24
        page.select_option("#order", "account")
        names = [
            text.split("\n")[0] for text in page.locator("#list > li:visible h3 .name").all_inner_texts()
        ]
        assert names == sorted(names) and len(names) == 24


def test_the_keyboard_reaches_everything(page_file: Path) -> None:
    """Links, fields, what folds, tables that scroll; the first stop leads past the contents."""
    with opened(page_file, viewport={"width": 1280, "height": 800}) as (page, _):
        wanted = page.evaluate(
            "[...document.querySelectorAll('a, input, select, summary, [tabindex=\"0\"]')]"
            ".filter(each => (each.offsetParent || each.className === 'skip')"
            " && !each.closest('details:not([open]) > :not(summary)')).length"
        )
        page.keyboard.press("Tab")
        assert page.evaluate("document.activeElement.className") == "skip"
        reached = 1
        for _ in range(wanted + 5):
            page.keyboard.press("Tab")
            if page.evaluate("document.activeElement === document.body"):
                break
            reached += 1
        assert reached == wanted


def test_it_is_readable_without_script_and_prints(page_file: Path, tmp_path: Path) -> None:
    """All findings stand there; on paper nothing is left of what can only be pressed."""
    with opened(page_file, java_script_enabled=False) as (page, _):
        assert page.locator("#list > li").count() == 295
        assert not page.locator("#filter").is_visible()
        page.emulate_media(media="print")
        assert not page.locator("nav").is_visible() and not page.locator("#filter").is_visible()
        for paper in ("A4", "Letter"):
            data = page.pdf(path=str(tmp_path / f"{paper}.pdf"), format=paper)
            assert data.startswith(b"%PDF") and data.count(b"/Type /Page\n") + data.count(b"/Type /Page ") > 5
