"""Attempts to get "clean" out of evidence that is not: each has to end with something other than 0."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import polars as pl
import pytest

from tests.commands.test_gaps import ACCOUNTS, AT, BOOK, ESTATE, FACTORS, MAP
from tests.support import newest, run, write

Attempt = Callable[[Path], object]
READ = ("read", *AT)


def again(folder: Path, **files: str) -> None:
    """Other files, read again; whatever comes of that."""
    write(folder, {name.replace("_", "."): text for name, text in files.items()})
    run(*READ, cwd=folder)


def stale(folder: Path) -> None:
    write(folder, {"estate.toml": ESTATE + 'stale-after = "2d"\n'})
    run("read", "--at", "2026-11-20T09:00Z", cwd=folder)


def changed_table(folder: Path) -> None:
    file = newest(folder).folder / "account.parquet"
    frame = pl.read_parquet(file)
    frame.with_columns(
        pl.lit("2026-11-23").str.to_datetime(time_zone="UTC", time_unit="us").alias("password-changed")
    ).write_parquet(file)


def without_table(folder: Path) -> None:
    (newest(folder).folder / "factor.parquet").unlink()


def short_table(folder: Path) -> None:
    file = newest(folder).folder / "account.parquet"
    pl.read_parquet(file).head(0).write_parquet(file)


def manifest(folder: Path, change: Callable[[dict[str, object]], object]) -> None:
    file = newest(folder).folder / "manifest.json"
    data = json.loads(file.read_text())
    change(data)
    file.write_text(json.dumps(data))


def older_copied_over(folder: Path) -> None:
    """A clean snapshot is copied under a later name after a bad reading."""
    clean = newest(folder).folder
    again(folder, accounts_csv=ACCOUNTS.replace("2026-11-01", "2025-01-01"))
    shutil.copytree(clean, clean.with_name("2036-01-01T000000Z"))


def bad_one_deleted(folder: Path) -> None:
    again(folder, accounts_csv=ACCOUNTS.replace("2026-11-01", "2025-01-01"))
    shutil.rmtree(newest(folder).folder)


def another_estates(folder: Path) -> None:
    write(folder, {"lab.toml": ESTATE, "r2.toml": BOOK})
    (folder / "lab.csv").write_text(ACCOUNTS.replace("2026-11-01", "2025-01-01"))
    write(folder, {"lab.toml": ESTATE.replace("accounts.csv", "lab.csv")})
    run(*READ, "--estate", "lab.toml", cwd=folder)
    shutil.rmtree(newest(folder).folder)


ATTEMPTS: dict[str, Attempt] = {
    "header only": lambda at: again(at, factors_csv="Of,What\n"),
    "no accounts": lambda at: again(at, accounts_csv="Login,Mail,Set\n"),
    "an empty file": lambda at: again(at, accounts_csv=""),
    "half a file": lambda at: again(at, accounts_csv=ACCOUNTS[: len(ACCOUNTS) // 2]),
    "dates emptied": lambda at: again(at, accounts_csv="Login,Mail,Set\nanna,,\nben,,\n"),
    "one date emptied": lambda at: again(at, accounts_csv=ACCOUNTS.replace("2026-11-01", "")),
    "dates ahead": lambda at: again(at, accounts_csv=ACCOUNTS.replace("2026", "2099")),
    "dates of another form": lambda at: again(at, accounts_csv=ACCOUNTS.replace("2026-11-01", "01.11.26")),
    "a column renamed": lambda at: again(at, accounts_csv=ACCOUNTS.replace("Set", "Changed")),
    "columns swapped": lambda at: again(at, accounts_csv=ACCOUNTS.replace("Login,Mail,Set", "Login,Set,Mail")),
    "factors by mail": lambda at: again(at, factors_csv="Of,What\na@larch.example,otp\nb@larch.example,otp\n"),
    "factors of nobody": lambda at: again(at, factors_csv="Of,What\nx,otp\ny,otp\n"),
    "another word for the factor": lambda at: again(at, factors_csv=FACTORS.replace("otp", "token")),
    "a ragged line": lambda at: again(at, accounts_csv=ACCOUNTS + "carl\n"),
    "a quote left open": lambda at: again(at, accounts_csv=ACCOUNTS + '"carl,c@larch.example,2026-11-01\n'),
    "the export is gone": lambda at: [(at / "accounts.csv").unlink(), run(*READ, cwd=at)],
    "the map is gone": lambda at: [(at / "map.toml").unlink(), run(*READ, cwd=at)],
    "a folder for a file": lambda at: [(at / "accounts.csv").unlink(), (at / "accounts.csv").mkdir(), run(*READ, cwd=at)],
    "read in the far future": lambda at: [run("read", "--at", "2099-01-01", cwd=at), again(at, factors_csv="Of,What\nanna,otp\n")],
    "too old": stale,
    "a table changed": changed_table,
    "a table gone": without_table,
    "a table cut short": short_table,
    "the manifest says less": lambda at: manifest(at, lambda data: data["tables"]["account"].update(rows=1)),  # type: ignore[index]
    "the manifest forgets a table": lambda at: manifest(at, lambda data: data["tables"].pop("factor")),  # type: ignore[attr-defined]
    "the manifest cut off": lambda at: (newest(at).folder / "manifest.json").write_text("{"),
    "an older one copied over": older_copied_over,
    "the bad one deleted": bad_one_deleted,
    "another estate's in its place": another_estates,
    "a rule for no source": lambda at: write(at, {"r.toml": "", "rulebook.toml": BOOK + '[rule.x]\ntitle = "X"\nwho = "source = \'ward\'"\nmust = "mail is known"\nseverity = "high"\n'}),
    "a rule for what nobody lists": lambda at: write(at, {"rulebook.toml": BOOK + '[rule.x]\ntitle = "X"\neach = "grant"\nmust = "ends is known"\nseverity = "high"\n'}),
    "a rule on what nobody tells": lambda at: write(at, {"rulebook.toml": BOOK + '[rule.x]\ntitle = "X"\nmust = "not locked"\nseverity = "high"\n'}),
    "a who that nobody can meet": lambda at: write(at, {"rulebook.toml": BOOK + '[rule.x]\ntitle = "X"\nwho = "enabled and not enabled"\nmust = "mail is known"\nseverity = "high"\n'}),
    "no rules": lambda at: write(at, {"rulebook.toml": 'title = "T"\n'}),
    "an empty rulebook": lambda at: write(at, {"rulebook.toml": ""}),
    "a register that is broken": lambda at: write(at, {"estate.toml": 'register = "x.toml"\n' + ESTATE, "x.toml": "[exemption.a]\n"}),
    "an accepted gap that is over": lambda at: [
        write(at, {"estate.toml": ESTATE + '[[accept]]\ngap = "strays"\nreason = "x"\nuntil = 2026-11-20\n'}),
        again(at, factors_csv=FACTORS + "x,otp\n"),
    ],
}  # fmt: skip


def in_order(folder: Path) -> None:
    """An estate in which all is well, read once."""
    files = {"accounts.csv": ACCOUNTS, "factors.csv": FACTORS}
    write(folder, {"estate.toml": ESTATE, "map.toml": MAP, "rulebook.toml": BOOK, **files})
    run(*READ, cwd=folder, expect=0)


@pytest.mark.deep
@pytest.mark.parametrize("name", ATTEMPTS)
def test_an_attempt_does_not_end_with_clean(tmp_path: Path, name: str) -> None:
    """Before it, all is well and said so."""
    in_order(tmp_path)
    run("judge", *AT, cwd=tmp_path, expect=0)
    ATTEMPTS[name](tmp_path)
    done = run("judge", *AT, cwd=tmp_path)
    assert done.returncode in (1, 2, 3), done.stdout
    assert done.stdout.strip() or done.stderr.strip()


@pytest.mark.deep
@pytest.mark.parametrize("at", ["2026-11-23", "2020-01-01"])
def test_judged_before_the_reading(tmp_path: Path, at: str) -> None:
    """What was put right since may have been wrong then."""
    in_order(tmp_path)
    assert run("judge", "--at", at, cwd=tmp_path).returncode in (1, 3)
