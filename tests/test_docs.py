"""What the docs say is true: examples are read, links lead somewhere, pictures are shown."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from keymallet.commands.parsers import COMMANDS
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from keymallet.core.studies.cases import read_cases, try_case
from keymallet.sources.estate import read_estate
from keymallet.sources.export.map_checks import read_column_map
from tests.oracles import missing, program

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]


def toml_blocks(page: str) -> list[str]:
    return re.findall(r"```toml\n(.*?)```", (ROOT / page).read_text("utf-8"), re.DOTALL)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    """Every file that a page links is there."""
    for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text("utf-8")):
        assert (page.parent / target).exists(), target


def test_what_follows_from_the_code_is_up_to_date() -> None:
    """Schemas, the dictionary, the list of functions; what is said names the command that makes them anew."""
    words = [sys.executable, str(ROOT / "tools/write_docs.py"), "--check"]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout


def test_manual_pages_are_up_to_date_and_sound() -> None:
    """One of each command; and what lays manual pages out finds nothing wrong with them."""
    words = [sys.executable, str(ROOT / "tools/write_man.py"), "--check"]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    pages = sorted((ROOT / "man").glob("*.1"))
    assert {page.stem for page in pages} == {"keymallet", *(f"keymallet-{name}" for name in COMMANDS)}
    lint = [program("mandoc"), "-T", "lint", "-W", "warning", *map(str, pages)]
    assert subprocess.run(lint, capture_output=True, text=True, check=False).stdout == ""
    laid_out = subprocess.run(
        [program("mandoc"), "-T", "utf8", str(ROOT / "man/keymallet-exempt.1")],
        capture_output=True,
        text=True,
    ).stdout
    plain = re.sub(".\b", "", laid_out)
    assert "exempt end back-from-leave\n" in plain and "directory/counter-*" in plain


def test_the_package_brings_everything(tmp_path: Path) -> None:
    """As it is installed where nobody edits it: with its manual pages, and all it reads when it runs."""
    source = tmp_path / "source"
    for part in ("src", "man"):
        shutil.copytree(
            ROOT / part, source / part, ignore=shutil.ignore_patterns("*.egg-info", "__pycache__")
        )
    for part in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / part, source / part)
    words = [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--wheel-dir", str(tmp_path)]
    done = subprocess.run([*words, str(source)], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        missing(f"the package cannot be built here: {done.stderr.strip()[-300:]}")
    (wheel,) = tmp_path.glob("*.whl")
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(tmp_path / "there")
        names = packed.namelist()
    assert any(name.endswith("data/share/man/man1/keymallet-judge.1") for name in names)
    code = (
        "import keymallet; from keymallet.commands.main import main; print(keymallet.__file__); "
        "main(['rules', 'check', 'base'])"
    )
    told = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        cwd=tmp_path / "there",
        env={**os.environ, "PYTHONPATH": str(tmp_path / "there")},
        check=True,
    ).stdout
    assert str(tmp_path / "there") in told and "rules" in told


def test_every_picture_is_shown_and_there_are_few() -> None:
    """A picture nobody links is out of date before long."""
    pictures = list((ROOT / "docs/screenshots").glob("*.png"))
    told = "".join(page.read_text("utf-8") for page in PAGES)
    assert pictures and len(pictures) < 20
    assert not [picture.name for picture in pictures if picture.name not in told]


def test_the_examples_of_the_docs_are_read(tmp_path: Path) -> None:
    """The estate and the rule of the README, the column map of its page."""
    estate, rule = toml_blocks("README.md")
    (tmp_path / "estate.toml").write_text(estate, "utf-8")
    assert [source.name for source in read_estate(tmp_path / "estate.toml").sources] == [
        "directory",
        "ticketing",
    ]
    assert len(read_rulebook(f'title = "T"\n{rule}', "README").rules) == 1
    (directories,) = toml_blocks("docs/directories.md")
    (hosts,) = toml_blocks("docs/hosts.md")
    cloud, staff = toml_blocks("docs/scim.md")
    head = 'organisation = "O"\nclock = "UTC"\nrulebook = "r"\n'
    (tmp_path / "estate.toml").write_text(head + directories + hosts + cloud + staff, "utf-8")
    assert len(read_estate(tmp_path / "estate.toml").sources) == 5
    column_map, several, as_they_come = toml_blocks("docs/column-map.md")
    accounts = '[account.columns]\nname = "login"\n'
    wide = read_column_map(
        as_they_come.replace("[[file]]", f"{accounts}[[file]]", 1), "docs", ZoneInfo("UTC")
    )
    assert (wide.positions["name"], wide.settings_of("old/x.csv").separator) == ((8, 12), "|")
    assert read_column_map(column_map, "docs", ZoneInfo("UTC")).tables.keys() == {"account", "key"}
    assert read_column_map(several, "docs", ZoneInfo("UTC")).tables["factor"][0].rows == "authenticators"
    roster, ties, proven, rules, pair, unlocks = toml_blocks("docs/people.md")
    other = "".join(
        f'[source.{name}]\nread = "csv"\nmap = "m"\nfiles = {{}}\n' for name in ("directory", "cloud")
    )
    (tmp_path / "estate.toml").write_text(head + roster + other + ties + proven + pair + unlocks, "utf-8")
    linking = read_estate(tmp_path / "estate.toml").linking
    assert (len(linking.match_rules), len(linking.pairs), len(linking.federations)) == (2, 1, 1)
    assert len(read_rulebook(f'title = "T"\n{rules}', "docs").rules) == 2
    register, term, list_map = toml_blocks("docs/exemptions.md")
    assert "exemption" in read_column_map(list_map, "docs", ZoneInfo("UTC")).tables
    emergency, technical = read_register(register + term, "docs", ZoneInfo("UTC")).exemptions
    assert (emergency.kind, len(emergency.drills), emergency.gates) == (
        "emergency",
        2,
        ("Staff prove twice",),
    )
    assert (technical.kind, len(technical.terms), technical.matched) == ("technical", 2, 12)
    (accept,) = toml_blocks("docs/trust.md")
    (tmp_path / "estate.toml").write_text(head + roster + other + accept, "utf-8")
    assert read_estate(tmp_path / "estate.toml").accepted[0].gap == "strays"
    book_text, side_by_side, cases = toml_blocks("docs/rulebook.md")
    (tmp_path / "estate.toml").write_text(
        f'organisation = "O"\nclock = "UTC"\n{side_by_side}\n{roster}{other}', "utf-8"
    )
    found = read_estate(tmp_path / "estate.toml")
    assert (len(found.rulebooks), len(found.preferred)) == (3, 1)
    book = read_rulebook(f'title = "T"\n{book_text}', "docs")
    assert (len(book.rules), len(book.tallies)) == (2, 1)
    (case,) = read_cases(cases, "docs", book)
    assert try_case(case, book).wrong == ""


def test_the_words_live_where_the_vocabulary_says() -> None:
    """A name that has moved is looked for in vain."""
    rows = re.findall(
        r"^\| ([^|]+) \| [^|]+ \| `([^`]+)`(?: `([^`]+)`)? \|$",
        (ROOT / "docs/vocabulary.md").read_text("utf-8"),
        re.M,
    )
    assert len(rows) > 40
    for word, file, name in rows:
        path = ROOT / "src/keymallet" / file
        assert path.is_file(), word
        assert not name or re.search(rf"^(class |def |    def )?{name}\b", path.read_text("utf-8"), re.M), (
            word
        )


def test_modules_that_the_docs_name_are_there() -> None:
    """A page that sends somebody to a file that has moved is worse than none."""
    for page in PAGES:
        for file in re.findall(
            r"`((?:core|sources|commands|views|outputs|store|fitting)/[a-z_/]+\.py)`", page.read_text("utf-8")
        ):
            assert (ROOT / "src/keymallet" / file).is_file(), f"{page.name}: {file}"


def test_every_command_is_in_the_readme() -> None:
    """Somebody who reads only that finds them all."""
    told = (ROOT / "README.md").read_text("utf-8")
    assert not [command for command in COMMANDS if f"keymallet {command}" not in told]
