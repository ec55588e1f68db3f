"""Reading a made-up host of a temporary folder."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from keymallet.core.facts.reading import Reading
from keymallet.sources.host.files import HostFiles
from keymallet.sources.host.hosts import read
from keymallet.sources.request import Request
from keymallet.sources.sections import HostSection
from tests.support import AT, CLOCK, write

HASH = "$6$saltsalt$" + "a" * 86


def read_hosts(folder: Path, **options: Any) -> list[Reading]:
    """Read the hosts below `folder`/h."""
    with ThreadPoolExecutor(1) as workers:
        section = HostSection(read="host", folder="h", **options)
        request = Request("h", folder, CLOCK, AT, workers)
        readings = read(section, request)
        request.note_files()
        return readings


@contextmanager
def host_files(folder: Path) -> Iterator[HostFiles]:
    """The files of the host `folder`/h, for a reader of some of them."""
    with ThreadPoolExecutor(1) as workers:
        yield HostFiles(Request("h", folder, CLOCK, AT, workers), "h", Reading("h"))


def account(
    folder: Path,
    passwd: str = "u:x:1000:1000:U,,,:/home/u:/bin/sh",
    shadow: str = f"u:{HASH}:20000:0:99999:7:::",
    **options: Any,
) -> tuple[Reading, dict[str, Any]]:
    """One host, and the facts of its one account, from its two lines and whatever else stands there."""
    write(folder, {"h/etc/passwd": passwd + "\n", "h/etc/shadow": shadow + "\n"})
    (reading,) = read_hosts(folder, **options)
    schema = dict.fromkeys(("lock-stops", "remote-key", "remote-password", "failed-attempts"))
    return reading, schema | reading.tables["account"].row(0, named=True)


def facts_of(folder: Path, **options: Any) -> dict[str, Any]:
    """The facts alone."""
    return account(folder, **options)[1]


def rows_of(reading: Reading, table: str) -> list[dict[str, Any]]:
    """The rows of a table; none where it is not supplied."""
    return list(reading.tables[table].iter_rows(named=True)) if table in reading.tables else []


def refused(reading: Reading) -> set[tuple[str, int]]:
    """File and line of everything that was refused."""
    return {(each.file, each.line) for intake in reading.intake.values() for each in intake.refusals}
