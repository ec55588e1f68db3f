"""A batch of planned accounts, whatever format it is in: told by its map, its ending, or its first bytes."""

from __future__ import annotations

import importlib
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from types import ModuleType
from zoneinfo import ZoneInfo

from keymallet.core.base.problems import fail
from keymallet.core.facts.declaration import ACCOUNT, EXEMPTION, PERSON
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.target import NOTHING_SAID, Target
from keymallet.sources.batches import mapped, remarked
from keymallet.sources.export.column_map import ColumnMap
from keymallet.sources.export.map_checks import read_column_map
from keymallet.sources.export.reading import FORMATS, usual_format
from keymallet.sources.request import config_text, read_file, refuse_pipe
from keymallet.sources.sections import SourceSection

LDIF, BULK = "ldif", "scim"
OPERATIONS = "Operations"
"""The list of a bulk request (RFC 7644, 3.7)."""
_MODULES = {LDIF: ("added_entries", "ldap"), BULK: ("bulk_requests", "scim")}
"""What reads the formats that need no map, and the extra each wants."""
_BULK_SCHEMA = b"urn:ietf:params:scim:api:messages:2.0:BulkRequest"


@dataclass(frozen=True)
class BatchFile:
    """A file of planned accounts: what it is called, its bytes, its format, and its map where it has one."""

    path: str
    data: bytes
    form: str
    column_map: ColumnMap | None
    beside: Mapping[str, str]

    def read(self, section: SourceSection | None, clock: ZoneInfo, at: datetime) -> Batch:
        """The planned accounts; `section` is how the estate reads the target.

        Raises KeymalletError where it cannot be read as a whole.
        """
        if self.form:
            batch: Batch = _module_of(self.form).read_batch(self.path, self.data, section, at)
            return batch
        assert self.column_map is not None, "opened with its map"
        return mapped.read_batch(self.path, self.column_map, clock, at, self.beside)

    @property
    def target(self) -> Target:
        """What the map says of the target."""
        return self.column_map.target if self.column_map else NOTHING_SAID

    def with_remarks(self, remarks: remarked.Remarks, only: Collection[int] | None = None) -> bytes:
        """The file as it stands, with remarks on its records; of these lines alone, if they are named."""
        if self.form == LDIF:
            return remarked.ldif_remarked(self.data, remarks, only)
        if self.form == BULK:
            return remarked.json_remarked(self.data, self.path, OPERATIONS, remarks, only)
        assert self.column_map is not None, "opened with its map"
        return remarked.remarked(self.data, self.path, self.column_map, remarks, only)


def open_batch(path: str, map_file: str | None, clock: ZoneInfo, beside: Mapping[str, str]) -> BatchFile:
    """Open the file of a batch, and its map. Raises KeymalletError with every fault of the map."""
    for each in (path, *beside.values()):
        refuse_pipe(Path(each), each)
    data = read_file(Path(path), path, hint="name the file of the batch")
    form = _form_of(path, data)
    if map_file is None and form not in (LDIF, BULK):
        hint = "--map MAP; LDIF and SCIM bulk requests need none"
        raise fail("a map has to say which column is which fact", file=path, hint=hint)
    if beside and form in (LDIF, BULK):
        raise fail("--with names tables of a map: this file has all in it", file=path)
    column_map = None if map_file is None else _map_of(map_file, path, clock, tables=form not in (LDIF, BULK))
    return BatchFile(path, data, form, column_map, beside)


def _module_of(form: str) -> ModuleType:
    """The module that reads a format. Raises KeymalletError saying which extra it wants."""
    name, extra = _MODULES[form]
    try:
        return importlib.import_module(f"keymallet.sources.batches.{name}")
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("keymallet"):
            raise
        hint = f"pip install 'keymallet[{extra}]'"
        raise fail(f"to read this needs the package {error.name}", hint=hint) from None


def _form_of(path: str, data: bytes) -> str:
    if Path(path).suffix.lower() in (".ldif", ".ldf"):
        return LDIF
    if data.lstrip()[:1] == b"{" and _BULK_SCHEMA in data[:4_096]:
        return BULK
    return ""


def _map_of(map_file: str, file: str, clock: ZoneInfo, *, tables: bool) -> ColumnMap:
    """Read and check the map of a batch; without `tables`, only what it says of the target counts."""
    text = config_text(Path(map_file), map_file)
    header_fault = FORMATS[usual_format(file)].header_fault
    column_map = read_column_map(text, map_file, clock, header_fault, of_target=not tables)
    for name in (EXEMPTION.name, PERSON.name):
        if name in column_map.tables:
            hint = "a batch has accounts, what is planned of them, and what belongs to them"
            raise fail(f"a batch of accounts has no {name}", file=map_file, hint=hint)
    if tables and ACCOUNT.name not in column_map.tables:
        hint = f'add [{ACCOUNT.name}.columns] with name = "…"'
        raise fail("the map says nothing about accounts", file=map_file, hint=hint)
    return column_map
