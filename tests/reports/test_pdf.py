"""The page as a PDF, read back by poppler."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from tests.oracles import program
from tests.support import run, write


def test_its_text_can_be_selected_and_it_asks_nothing_of_anybody(four_weeks: Path, tmp_path: Path) -> None:
    """Part of the railway, with a template that names pictures outside: they are not fetched."""
    own = write(
        tmp_path / "own",
        {
            "colours.css": f'body {{ background: url("file://{tmp_path}/secret.png") }} h1 {{ list-style: url(http://127.0.0.1:9/x) }}'
        },
    )
    words = ("--severity", "critical", "--topic", "factors", "--template", str(own))
    run(
        "report",
        "--format",
        "pdf",
        *words,
        "--output",
        str(tmp_path / "r.pdf"),
        cwd=four_weeks / "there",
        expect=0,
    )
    done = subprocess.run(
        [program("pdftotext"), "-layout", "r.pdf", "-"], cwd=tmp_path, capture_output=True, check=True
    )
    text = " ".join(done.stdout.decode().split())
    assert "Gentian Valley Railway" in text and "What it rests on" in text and "snapshot, BLAKE3" in text
    assert "evidence is incomplete" in text
    assert re.search(r"\b1 of ([2-9]|\d\d)\b", text), "pages are numbered: one that is missing is seen"
    info = subprocess.run(
        [program("pdfinfo"), "r.pdf"], cwd=tmp_path, capture_output=True, text=True, check=True
    ).stdout
    assert "A4" in info
