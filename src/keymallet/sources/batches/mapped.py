"""A batch of accounts that are about to be made, read from an export by its map."""

from __future__ import annotations

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import polars as pl

from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, PLANNED
from keymallet.core.facts.model import Kind
from keymallet.core.facts.reading import MOST_DETAILS, NO_SUCH_THING, Reading, Refusal
from keymallet.core.vetting.batch import Batch, unique_names
from keymallet.sources.export.column_map import ColumnMap
from keymallet.sources.export.reading import FORMATS, parts_for, usual_format
from keymallet.sources.export.table_file import TableFile
from keymallet.sources.request import Request

_LINE = "line in the file"
_KEY = "name in the batch"


def format_of(file: str, column_map: ColumnMap) -> str:
    """The format a file is read in: what the map says, else by its ending; text where columns have places."""
    told = column_map.settings_of(file).read
    usual = usual_format(file)
    return told or ("text" if column_map.positions and usual == "csv" else usual)


def read_batch(
    file: str, column_map: ColumnMap, clock: ZoneInfo, at: datetime, beside: Mapping[str, str]
) -> Batch:
    """Read planned accounts, and what belongs to them; tables of `beside` stand in files of their own.

    Raises KeymalletError where a file cannot be read as a whole, or `beside` names a table without a map.
    """
    lists = {name: path for name, path in beside.items() if _is_list(name)}
    beside = {name: path for name, path in beside.items() if name not in lists}
    for name in beside:
        if name not in column_map.tables or name == ACCOUNT.name:
            others = ", ".join(name for name in column_map.tables if name != ACCOUNT.name) or "none"
            hint = f"it maps: {others}; lists of accounts can stand beside them too, such as groups"
            raise fail(f'--with {name}=…: the map says nothing about "{name}"', hint=hint)
    batch = Batch(file, column_map.target)
    reading = Reading("batch")
    with ThreadPoolExecutor() as workers:
        request = Request("batch", Path(), clock, at, workers)
        files = {
            name: _read_table(
                name, beside.get(name, file), column_map, request, reading, same_file=name not in beside
            )
            for name in sorted(column_map.tables, key=lambda name: name != ACCOUNT.name)
        }
        told = {
            name: _read_table(ACCOUNT.name, path, column_map, request, reading, same_file=True)
            for name, path in lists.items()
        }
    _take_accounts(files[ACCOUNT.name], batch)
    for name, parts in told.items():
        _take_list(name, parts, batch)
    for name, parts in files.items():
        if name != ACCOUNT.name:
            _take_rows(name, parts, batch, same_file=name not in beside)
        for part in parts:
            batch.refused += [each for each in part.intake.refusals if each not in batch.refused]
            batch.unreadable += part.intake.unreadable_cells
            batch.remarks += [remark for remark in part.remarks if remark not in batch.remarks]
    for name, absent in column_map.absent.items():
        batch.supply[name].update(dict.fromkeys(absent, NO_SUCH_THING))
    batch.told_by = {
        f"{name}.{cell.column.name}": cell.header
        for name, parts in files.items()
        if name not in beside
        for part in parts
        for cell in part.row_map.cells
        if cell.header
    }
    return batch


def _read_table(
    name: str, path: str, column_map: ColumnMap, request: Request, reading: Reading, *, same_file: bool
) -> list[TableFile]:
    """One table out of its file, in all the parts that the map has for such a file."""
    form = FORMATS[format_of(path, column_map)]
    read = []
    for part in parts_for(path, column_map.tables[name], column_map, request, form):
        table_file = TableFile(part, path, keep_lines=True, as_they_stand=same_file)
        table_file.read(column_map, request, reading, form.rows_of)
        read.append(table_file)
    return read


def _take_accounts(parts: list[TableFile], batch: Batch) -> None:
    frame = pl.concat([part.frame for part in parts], how="diagonal")
    batch.lines = [line for part in parts for line in part.lines]
    batch.written = frame["name"].cast(pl.String)
    batch.tables[ACCOUNT.name] = frame.with_columns(unique_names(batch.written, batch.lines).alias("name"))
    batch.supply[ACCOUNT.name] = {name: where for part in parts for name, where in part.supply.items()}


def _is_list(name: str) -> bool:
    """Whether this is a fact of accounts with several values, which can stand in a file of its own."""
    column = ACCOUNT.column(name)
    return column is not None and column.kind is Kind.WORDS and not column.across


def _take_list(name: str, parts: list[TableFile], batch: Batch) -> None:
    """A list of the accounts from a file of its own: a line for each value, or several in one; all count.

    An account with no line there has none. Raises KeymalletError where the map does not read it from there.
    """
    for part in parts:
        if name not in part.frame.columns:
            hint = f'a part [[account]] with if-columns = ["…"] and [account.columns] {name} = "…"'
            raise fail(f"the map does not say which column {name} is", file=part.path, line=1, hint=hint)
        known = part.frame["name"].is_in(batch.written.implode())
        batch.refused += [
            Refusal(part.path, line, f"names no account of the batch: {account}")
            for line, account, is_known in zip(part.lines, part.frame["name"], known, strict=True)
            if not is_known
        ][:MOST_DETAILS]
        batch.refused += part.intake.refusals
        batch.unreadable += part.intake.unreadable_cells
        batch.remarks += part.remarks
    lines = pl.concat([part.frame.select("name", name) for part in parts]).explode(name).drop_nulls()
    values = lines.group_by("name", maintain_order=True).agg(pl.col(name).alias("beside"))
    accounts = batch.tables[ACCOUNT.name]
    told = pl.DataFrame({"name": batch.written}).join(values, on="name", how="left", maintain_order="left")
    nothing = pl.lit([], dtype=pl.List(pl.String))
    own = pl.col(name).fill_null(nothing) if name in accounts.columns else nothing
    both = pl.concat_list(own, pl.col("beside").fill_null(nothing)).list.unique(maintain_order=True)
    batch.tables[ACCOUNT.name] = (
        accounts.with_columns(told["beside"]).with_columns(both.alias(name)).drop("beside")
    )
    batch.supply[ACCOUNT.name][name] = f"{parts[0].path}, a line for each"


def _take_rows(name: str, parts: list[TableFile], batch: Batch, *, same_file: bool) -> None:
    """The rows of a table beside the accounts: in the same file they are the account's on the same line."""
    accounts = batch.accounts.select(pl.col("name").alias(_KEY)).with_columns(
        pl.Series(_LINE, batch.lines, dtype=pl.Int64), batch.written.alias("account")
    )
    taken = []
    for part in parts:
        frame = part.frame.with_columns(pl.Series(_LINE, part.lines, dtype=pl.Int64))
        by = [_LINE, "account"] if same_file else ["account"]
        known = accounts.unique(by, keep="first")
        found = frame.join(
            known.select(*by, _KEY), on=by, how="left", maintain_order="left", nulls_equal=True
        )
        strays = found.filter(pl.col(_KEY).is_null())
        batch.refused += [
            Refusal(part.path, line, f"names no account of the batch: {account}")
            for line, account in strays.select(_LINE, "account").head(MOST_DETAILS).iter_rows()
        ]
        found = found.filter(pl.col(_KEY).is_not_null())
        taken.append(found.with_columns(pl.col(_KEY).alias("account")).drop(_KEY, _LINE))
    batch.tables[name] = pl.concat(taken, how="diagonal")
    batch.supply[name] = {column: where for part in parts for column, where in part.supply.items()}
    if name == PLANNED.name:
        batch.tables[name] = batch.tables[name].unique("account", keep="first", maintain_order=True)
