"""Opening the estate's logbook, and what a run of it was judged by."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from zoneinfo import ZoneInfo

from sqlalchemy import URL, make_url

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.reading import read_rulebooks
from keymallet.core.rulebook.register import Register, read_register
from keymallet.sources.estate import Estate
from keymallet.sources.estate_runs import NO_LOGBOOK
from keymallet.sources.shared.secret import read_secret
from keymallet.store.logbook.connecting import Location
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import RunRecord, SnapshotRecord
from keymallet.store.logbook.signing import Signer
from keymallet.store.snapshot import Snapshot, read_snapshot


def open_logbook(estate: Estate, *, make: bool = False) -> Logbook:
    """The estate's logbook. Raises KeymalletError if it has none, or it cannot be opened."""
    if estate.logbook is None:
        raise fail("this estate has no logbook", file=str(estate.file), hint=NO_LOGBOOK)
    sign = None
    if make and estate.logbook.sign_with:
        pem = read_secret(estate.logbook.sign_with, estate.folder, "logbook-sign-with").reveal()
        sign = Signer(pem, estate.logbook.sign_with)
    return Logbook.open(
        location_of(estate),
        estate.identity,
        estate.organisation,
        make=make,
        is_named=estate.has_own_identity,
        sign=sign,
    )


def files_of(estate: Estate) -> Path:
    """The folder of the logbook's files."""
    place = estate.logbook
    assert place is not None, "asked of an estate that has one"
    return place.folder if place.server else Location.of_folder(place.folder).files


def location_of(estate: Estate) -> Location:
    """Where the estate's logbook is, with the password it needs."""
    place = estate.logbook
    assert place is not None, "asked of an estate that has one"
    if not place.server:
        return Location.of_folder(place.folder)
    extra("psycopg", "postgresql", "logbooks on a server")
    url: URL = make_url(place.server).set(drivername="postgresql+psycopg")
    said = url.render_as_string()
    if place.password_from:
        url = url.set(
            password=read_secret(place.password_from, estate.folder, "logbook-password-from").reveal()
        )
    return Location(said, url, place.folder)


def rulebook_of_run(logbook: Logbook, record: RunRecord) -> Rulebook:
    """The rulebook that a run was judged by, read from the texts the logbook keeps."""
    assert record.rulebook is not None, "a run that came to verdicts has a rulebook"
    return read_kept_rulebook(
        record, {each.name: logbook.text(each.blake3) for each in record.rulebook.texts}
    )


def read_kept_rulebook(record: RunRecord, texts: Mapping[str, str]) -> Rulebook:
    """The rulebook of a run, read from these texts by their names."""
    book = record.rulebook
    assert book is not None, "a run that came to verdicts has a rulebook"

    def open_included(wanted: str, by: str) -> tuple[str, str]:
        for name in (os.path.normpath(Path(by).parent / wanted), wanted):
            if name in texts:
                return texts[name], name
        raise fail(f'the logbook keeps no rulebook "{wanted}"', file=by)

    read = read_rulebooks([(texts[name], name) for name in book.roots], open_included)
    taken_out = set(book.taken_out)
    return read.of_what_exists.only(lambda demand: demand.id not in taken_out)


def register_of_run(logbook: Logbook, record: RunRecord) -> Register | None:
    """The register that a run was judged with."""
    kept = record.register
    return read_kept_register(record, {kept.name: logbook.text(kept.blake3)} if kept else {})


def read_kept_register(record: RunRecord, texts: Mapping[str, str]) -> Register | None:
    """The register of a run, read from these texts by their names; None where it had none."""
    kept = record.register
    return read_register(texts[kept.name], kept.name, ZoneInfo(record.clock)) if kept else None


def snapshot_of_run(folder: Path, wanted: SnapshotRecord) -> Snapshot | None:
    """The snapshot that a run judged, where it is still there: by its digest, whatever its folder."""
    places = [folder / wanted.folder]
    if folder.is_dir():
        places += [entry for entry in sorted(folder.iterdir()) if entry.name != wanted.folder]
    for place in places:
        if place.name.startswith(".") or not place.is_dir():
            continue
        try:
            snapshot = read_snapshot(place)
        except KeymalletError:
            continue
        if snapshot.digest == wanted.blake3:
            return snapshot
    return None


def same_texts(before: RunRecord, after: RunRecord) -> bool:
    """Whether two runs were judged by the same rulebook: the same texts, however their files are called."""
    if before.rulebook is None or after.rulebook is None:
        return False
    sides: list[tuple[Mapping[str, str], RunRecord]] = []
    for record in (before, after):
        assert record.rulebook is not None
        sides.append(({text.name: text.blake3 for text in record.rulebook.texts}, record))
    roots = [[texts[name] for name in record.rulebook.roots] for texts, record in sides if record.rulebook]
    taken = [sorted(record.rulebook.taken_out) for _, record in sides if record.rulebook]
    return (
        roots[0] == roots[1]
        and taken[0] == taken[1]
        and sorted(sides[0][0].values()) == sorted(sides[1][0].values())
    )


def same_register(before: RunRecord, after: RunRecord) -> bool:
    """Whether two runs were judged with the same register, or both without one."""
    return (before.register and before.register.blake3) == (after.register and after.register.blake3)
