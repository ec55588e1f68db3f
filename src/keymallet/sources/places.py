"""Where in a source's files an account or a row of one stands: the file, and its line if it can be told."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

_QUOTED = re.compile(r', "(.+)"$')
_FIELD = re.compile(r", field (\d+)")
_SEPARATORS = ",;\t|"
_LONGEST = 1 << 30  # bytes


class Place(NamedTuple):
    """A file, as the estate names it, and a line of it; 0 where no line can be told."""

    file: str
    line: int


class _Record(NamedTuple):
    line: int
    cells: tuple[str, ...]


class Places:
    """The places of what a snapshot holds, found in the files it was read from.

    `supply` says by source, table and fact where it was taken from, `files` the digest (BLAKE3) of each file
    by source and path. Of a file that is not there any more, or is another now, no line is told.
    """

    def __init__(
        self,
        folder: Path,
        supply: Mapping[str, Mapping[str, Mapping[str, str]]],
        files: Mapping[str, Mapping[str, str]],
    ) -> None:
        self._folder = folder
        self._supply = supply
        self._files = files
        self._records: dict[tuple[str, str, str], dict[str, list[_Record]]] = {}

    def of(self, source: str, table: str, facts: Iterable[str], account: str, subject: str) -> Place | None:
        """Where a row stands; None for what came from no file.

        `account` is the name of the account in its source, `subject` what tells its rows apart. Of the
        `facts`, the first that came from a file of the source decides which file it is.
        """
        for of_table in dict.fromkeys((table, "account")):
            supply = self._supply.get(source, {}).get(of_table, {})
            key = "name" if of_table == "account" else "account"
            for fact in (*facts, key):
                told = supply.get(fact, "")
                file = self._file_in(source, told)
                if file:
                    named = supply.get(key, "")
                    same = named if self._file_in(source, named) == file else told
                    return Place(file, self._line(source, file, same, account, subject))
        return None

    def _file_in(self, source: str, told: str) -> str:
        """The file that a supply speaks of."""
        found = [path for path in self._files.get(source, {}) if told == path or told.startswith(f"{path},")]
        return max(found, key=len, default="")

    def _line(self, source: str, file: str, told: str, account: str, subject: str) -> int:
        where = (source, file, told)
        if where not in self._records:
            self._records[where] = self._read(source, file, told)
        records = self._records[where].get(account, [])
        # Of several rows of one account it is the one whose own words stand in what the finding is on.
        best = max(records, key=lambda each: _likeness(each, account, subject), default=None)
        return best.line if best else 0

    def _read(self, source: str, file: str, told: str) -> dict[str, list[_Record]]:
        path = self._folder / file
        try:
            data = path.read_bytes() if path.stat().st_size < _LONGEST else b""
        except OSError:
            return {}
        if blake3(data).hexdigest() != self._files[source][file]:
            return {}
        text = data.decode("utf-8-sig", errors="replace")
        quoted, field = _QUOTED.search(told), _FIELD.search(told)
        if quoted and path.suffix.lower() in (".json", ".jsonl", ".ndjson"):
            return _of_json(text, quoted[1])
        if quoted:
            return _of_csv(text, quoted[1])
        if field or path.name in ("passwd", "shadow"):
            return _of_fields(text)
        return {}


def _likeness(record: _Record, account: str, subject: str) -> int:
    return sum(len(cell) for cell in set(record.cells) if cell and cell != account and cell in subject)


def _gathered(records: Iterable[tuple[str, _Record]]) -> dict[str, list[_Record]]:
    found: dict[str, list[_Record]] = {}
    for name, record in records:
        found.setdefault(name, []).append(record)
    return found


def _of_csv(text: str, column: str) -> dict[str, list[_Record]]:
    for separator in _SEPARATORS:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
        try:
            header = next((row for row in reader if column in row), None)
            if header is None:
                continue
            place, found, before = header.index(column), [], reader.line_num
            for row in reader:
                if len(row) == len(header):
                    found.append((row[place], _Record(before + 1, tuple(row))))
                before = reader.line_num
        except csv.Error:
            continue
        return _gathered(found)
    return {}


def _of_fields(text: str) -> dict[str, list[_Record]]:
    lines = enumerate(text.split("\n"), start=1)
    return _gathered((line.partition(":")[0], _Record(number, ())) for number, line in lines if ":" in line)


def _of_json(text: str, path: str) -> dict[str, list[_Record]]:
    """Of JSON lines each line is read; of other JSON the lines where the key has a value are looked for."""
    lines = _json_lines(text)
    if lines is not None:
        get = _getter(path)
        return _gathered((get(value), _Record(number, _texts(value))) for number, value in lines)
    key = re.escape(json.dumps(path.lstrip("^").rpartition(".")[2], ensure_ascii=False))
    found = []
    line, at = 1, 0
    for match in re.finditer(rf"{key}\s*:\s*(\"(?:[^\"\\]|\\.)*\"|-?\d+)", text):
        line += text.count("\n", at, match.start())
        at = match.start()
        found.append((str(json.loads(match[1])), _Record(line, ())))
    # An account stands where it is first named: later it may be named as somebody's manager.
    return {name: records[:1] for name, records in _gathered(found).items()}


def _json_lines(text: str) -> list[tuple[int, object]] | None:
    found: list[tuple[int, object]] = []
    for number, line in enumerate(text.split("\n"), start=1):
        if line.strip():
            try:
                value = json.loads(line)
            except ValueError:
                return None
            if not isinstance(value, dict):
                return None
            found.append((number, value))
    return found


def _getter(path: str) -> Callable[[object], str]:
    def get(value: object) -> str:
        for step in path.lstrip("^").split("."):
            value = value.get(step) if isinstance(value, dict) else None
        return str(value)

    return get


def _texts(value: object) -> tuple[str, ...]:
    return tuple(str(each) for each in value.values()) if isinstance(value, dict) else ()
