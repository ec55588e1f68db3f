"""What many tests share: evidence out of plain Python rows, and running the program."""

from __future__ import annotations

import contextlib
import io
import os
import re
import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import polars as pl
import pytest

from keymallet.commands.main import main
from keymallet.core.base.problems import KeymalletError
from keymallet.core.facts.declaration import ACCOUNT, TABLES
from keymallet.core.facts.evidence import (
    ACCOUNT_ROW,
    CANDIDATES,
    ORIGIN,
    PERSON_ROW,
    UNREAD,
    Evidence,
    data_type,
)
from keymallet.core.facts.model import Table
from keymallet.core.facts.reading import Reading
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.judging.verdicts import Verdict
from keymallet.core.linking.federation import find_provers
from keymallet.core.linking.linked import LinkedReadings, LinkingRules
from keymallet.core.linking.passes import PASSES, link
from keymallet.core.linking.ways_in import make_ways_in
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.engines.processes import Processes
from keymallet.sources.estate import read_estate
from keymallet.sources.reading import read_sources
from keymallet.store.newest import find_newest
from keymallet.store.snapshot import Snapshot

AT = datetime(2026, 11, 24, 9, 0, tzinfo=UTC)
CLOCK = ZoneInfo("Europe/Zurich")
RULES = LinkingRules(CLOCK)
"""An estate that declares nothing of how its sources belong together."""
PROGRAM = Path(sys.executable).parent / "keymallet"


_NO_FACTS = ("of", "candidates", UNREAD)


def read_and_link(file: Path) -> LinkedReadings:
    """All that the sources of an estate give, linked. Raises KeymalletError if one cannot be read."""
    estate = read_estate(file)
    readings = read_sources(estate.sources, estate, AT)
    if problems := [problem for reading in readings for problem in reading.problems]:
        raise KeymalletError(problems)
    return link(readings, estate.linking)


def passed(
    run: Callable[..., LinkedReadings], given: LinkedReadings, rules: LinkingRules = RULES
) -> LinkedReadings:
    """What a pass makes of readings that are all there are."""
    (step,) = (step for step in PASSES if step.run is run)
    return step.alone(given, rules)


def newest(folder: Path) -> Snapshot:
    """The newest snapshot of the estate in a folder."""
    estate = read_estate(folder / "estate.toml")
    found = find_newest(estate.snapshots, estate.identity, datetime.now(UTC)).snapshot
    assert found is not None
    return found


def days_ago(days: float) -> datetime:
    """An instant before AT."""
    return AT - timedelta(days=days)


def evidence(
    accounts: list[dict[str, Any]],
    supply: dict[str, dict[str, list[str]]] | None = None,
    **children: list[dict[str, Any]],
) -> Evidence:
    """The same as `bare_evidence`, with the ways into the accounts."""
    return with_ways_in(bare_evidence(accounts, supply, **children))


def bare_evidence(
    accounts: list[dict[str, Any]],
    supply: dict[str, dict[str, list[str]]] | None = None,
    **children: list[dict[str, Any]],
) -> Evidence:
    """Evidence of these accounts. A row of another table names its account's row as `of` (None: an orphan).
    An account names its person's row so; `candidates` are numbers of people whose it may be.

    Without `supply`, the one source "d" supplies whatever any row mentions. Column names are
    written with underscores.
    """
    tables = {"account": [_kebab(row) for row in accounts]} | {
        name.replace("_", "-"): [_kebab(row) for row in rows] for name, rows in children.items()
    }
    if supply is None:
        mentioned = {name: sorted({key for row in rows for key in row}) for name, rows in tables.items()}
        supply = {
            "d": {name: [key for key in keys if key not in _NO_FACTS] for name, keys in mentioned.items()}
        }
    sources = pl.Enum(list(supply))
    keyed = [{"source": "d", "name": f"a{number}", **row} for number, row in enumerate(tables.pop("account"))]
    keyed = [{"account": f"{row['source']}/{row['name']}", **row} for row in keyed]
    frames = {"account": _frame(ACCOUNT, keyed).with_columns(pl.col("source").cast(sources))}
    if "person" in tables:
        frames["account"] = frames["account"].with_columns(
            pl.Series(PERSON_ROW, [row.get("of") for row in keyed], dtype=pl.UInt32),
            pl.Series(CANDIDATES, [row.get("candidates") for row in keyed], dtype=pl.List(pl.String)),
        )
    for name, rows in tables.items():
        table = TABLES[name]
        frame = _frame(table, [{key: value for key, value in row.items() if key != "of"} for row in rows])
        places = [row.get("of") for row in rows]
        origins = [
            row.get("source", keyed[place]["source"] if place is not None else next(iter(supply)))
            for row, place in zip(rows, places, strict=True)
        ]
        if "source" in table.names:
            frames[name] = frame.with_columns(pl.Series("source", origins, dtype=sources))
            continue
        if not table.owner:
            frames[name] = frame.with_columns(pl.Series(ORIGIN, origins, dtype=sources))
            continue
        frames[name] = frame.with_columns(
            pl.Series(ORIGIN, origins, dtype=sources), pl.Series(ACCOUNT_ROW, places, dtype=pl.UInt32)
        )
    told = {
        source: {
            table: dict.fromkeys([*columns, "account", "source", "name"], "test")
            for table, columns in named.items()
        }
        for source, named in supply.items()
    }
    return Evidence(frames, told, dict.fromkeys(supply, AT))


def with_ways_in(found: Evidence) -> Evidence:
    """The evidence with the ways into its accounts, as linking works them out."""
    made = make_ways_in(find_provers(linked(found), RULES), RULES)
    supply = {reading.source: reading.supply for reading in made.readings}
    return replace(found, tables=dict(made.tables), supply=supply)


def linked(found: Evidence) -> LinkedReadings:
    """The evidence as linking passes take it: a reading for each source, and the tables of all."""
    readings = [Reading(source, dict(found.tables), supply) for source, supply in found.supply.items()]
    return LinkedReadings(tuple(readings), found.tables)


def _kebab(row: dict[str, Any]) -> dict[str, Any]:
    return {key.replace("_", "-"): value for key, value in row.items()}


def _frame(table: Table, rows: list[dict[str, Any]]) -> pl.DataFrame:
    schema: dict[str, Any] = {column.name: data_type(column) for column in table.columns}
    if any(UNREAD in row for row in rows):
        schema[UNREAD] = pl.List(pl.String)
    return pl.DataFrame([{name: row.get(name) for name in schema} for row in rows], schema=schema)


def judged(found: Evidence, rules: str, at: datetime = AT) -> Judgement:
    """Judge by rules given as TOML; the title is added."""
    return judge(found, read_rulebook(f'title = "Test"\n{rules}', "rulebook.toml"), at, CLOCK)


def verdict_words(judgement: Judgement, rule: str = "r") -> list[str]:
    """The verdicts of one rule on each row, in words."""
    return [Verdict(code).word for code in judgement.codes[rule].to_list()]


def rule(must: str, who: str = "true", extra: str = "", each: str = "account") -> str:
    """One rule called r, as TOML."""
    return f"""{extra}
[rule.r]
title = "R"
severity = "high"
each = "{each}"
who = '''{who}'''
must = '''{must}'''
"""


def run_installed(
    *words: str, cwd: Path, expect: int | None = None, **environment: str
) -> subprocess.CompletedProcess[str]:
    """Run the installed program; with `expect`, hold its exit code against it."""
    done = subprocess.run(
        [str(PROGRAM), *words],
        cwd=cwd,
        capture_output=True,
        text=True,
        encoding="utf-8",
        timeout=120,
        env={**os.environ, "COLUMNS": "100", **environment},
        check=False,
    )
    assert "Traceback" not in done.stderr, done.stderr
    return _as_expected(done, expect)


def run(
    *words: str, cwd: Path, expect: int | None = None, **environment: str
) -> subprocess.CompletedProcess[str]:
    """The same, of the program's `main` in this process: for the many tests that would each start Python anew.

    A traceback is the test's own. Tests of the installed program itself use `run_installed`.
    """
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", newline="") for _ in range(2))
    before, kept = Path.cwd(), dict(os.environ)
    os.environ.update({"COLUMNS": "100", **environment})
    os.chdir(cwd)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                code = main(words)
            except SystemExit as ended:
                code = ended.code if isinstance(ended.code, int) else 1
    finally:
        os.chdir(before)
        os.environ.clear()
        os.environ.update(kept)
    done = subprocess.CompletedProcess(words, code, _text_of(out), _text_of(err))
    return _as_expected(done, expect)


def _text_of(stream: io.TextIOWrapper) -> str:
    """What was written, with line ends as a program reads them that takes it for text."""
    stream.flush()
    written: bytes = stream.buffer.getvalue()  # type: ignore[attr-defined]
    return re.sub(r"\r\n?", "\n", written.decode("utf-8"))


def _as_expected(
    done: subprocess.CompletedProcess[str], expect: int | None
) -> subprocess.CompletedProcess[str]:
    if expect is not None:
        assert done.returncode == expect, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
    return done


def kill_workers(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Let every process that works for this one be killed as soon as all work is handed out; which they were."""
    killed: list[int] = []
    given = Processes._given

    def kill(self: Processes, *words: Any) -> Any:
        if self._pool is not None:
            for process in self._pool._processes.values():
                killed.append(process.pid or 0)
                process.kill()
        return given(self, *words)

    monkeypatch.setattr(Processes, "_given", kill)
    return killed


def write(folder: Path, files: dict[str, str | bytes]) -> Path:
    """Write files below a folder."""
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return folder
