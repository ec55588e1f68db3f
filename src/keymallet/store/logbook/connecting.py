"""Where a logbook is, and the way in: its database, made or brought up to date if need be."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import URL, Connection, Engine, create_engine, event, exc, select, text
from sqlalchemy.pool import NullPool

from keymallet.core.base.problems import KeymalletError, Place, Problem, fail
from keymallet.store.files import OWNER_ALONE
from keymallet.store.logbook.tables import ESTATE, RUN

DATABASE = "logbook.sqlite"
FILES = "files"
VERSIONS = ("0001", "0002")
"""The versions of the tables, the newest last."""
MIGRATIONS = "keymallet.store.logbook:migrations"
"""What leads from each to the next."""
_OTHERS_TAKE = 600
"""So many seconds one writer waits for another."""


@dataclass(frozen=True)
class Location:
    """Where a logbook is: its database, and the folder of its files. `said` is how the estate names it."""

    said: str
    url: URL
    files: Path

    @classmethod
    def of_folder(cls, folder: Path) -> Location:
        """An embedded logbook: a folder with everything in it."""
        return cls(str(folder), URL.create("sqlite", database=str(folder / DATABASE)), folder / FILES)

    @property
    def folder(self) -> Path | None:
        """The folder of an embedded logbook; None where a server has the tables."""
        return Path(self.url.database or "").parent if self.url.get_backend_name() == "sqlite" else None

    @property
    def exists(self) -> bool:
        """Whether an embedded logbook is there at all; of a server's it shows when it is asked."""
        return self.folder is None or (self.folder / DATABASE).exists()


class OtherEstateError(KeymalletError):
    """A logbook that another estate writes."""


def connect(
    location: Location, estate: str, organisation: str, *, make: bool, is_named: bool = True
) -> Engine:
    """Open the database of a logbook, brought up to date; with `make`, it is made where there is none.

    Where the estate's identity is one that it was given (`is_named`), its organisation may have another name
    than before. Raises KeymalletError if it cannot be opened or is of a newer version, OtherEstateError if it
    is another estate's.
    """
    if location.folder is not None:
        _prepare_folder(location, location.folder, make)
    engine = _engine(location)
    with told(location):
        with engine.connect() as connection:
            version = _version(connection)
        if version is None and not make:
            raise fail("this is no logbook yet: no run is in it", file=location.said, hint=FIRST_RUN)
        if version != VERSIONS[-1]:
            _bring_up_to_date(engine, location, version)
        with engine.begin() as connection:
            known = _is_ours(connection, location, estate, organisation, is_named=is_named)
        if make and not known:
            with writing(engine) as connection:
                # Another process may have entered one meanwhile.
                if not _is_ours(connection, location, estate, organisation, is_named=is_named):
                    connection.execute(ESTATE.insert().values(identity=estate, organisation=organisation))
    return engine


FIRST_RUN = "keymallet judge writes its first run"


def _prepare_folder(location: Location, folder: Path, make: bool) -> None:
    if not location.exists and not make:
        raise fail("there is no logbook here yet", file=location.said, hint=FIRST_RUN)
    if folder.exists() and not folder.is_dir():
        hint = 'logbook = "logbook" in the estate file names a folder'
        raise fail("the logbook is a folder, and this is a file", file=location.said, hint=hint)
    if make and not location.exists:
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with suppress(FileExistsError):
                os.close(os.open(folder / DATABASE, os.O_CREAT | os.O_EXCL, OWNER_ALONE))
        except OSError as error:
            raise fail(f"the logbook cannot be made: {error.strerror or error}", file=location.said) from None


def _engine(location: Location) -> Engine:
    if location.folder is None:
        return create_engine(location.url, poolclass=NullPool)
    engine = create_engine(location.url, poolclass=NullPool, connect_args={"timeout": _OTHERS_TAKE})

    @event.listens_for(engine, "connect")
    def _as_asked(connection, record) -> None:  # type: ignore[no-untyped-def]
        # Transactions begin where SQLAlchemy says so, and not when the driver thinks of it.
        connection.isolation_level = None
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=FULL")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        alone = connection.get_execution_options().get("keymallet_alone", False)
        connection.exec_driver_sql("BEGIN IMMEDIATE" if alone else "BEGIN")

    return engine


@contextmanager
def writing(engine: Engine) -> Iterator[Connection]:
    """A transaction that no other writer is in at the same time: the others wait until it has ended."""
    with engine.connect().execution_options(keymallet_alone=True) as connection, connection.begin():
        if engine.dialect.name != "sqlite":
            connection.execute(text("SELECT pg_advisory_xact_lock(hashtext('keymallet logbook'))"))
        yield connection


def _version(connection: Connection) -> str | None:
    """The version of the tables that are there; None if there are none."""
    if not connection.dialect.has_table(connection, "alembic_version"):
        return None
    found = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
    return str(found) if found is not None else None


def _bring_up_to_date(engine: Engine, location: Location, version: str | None) -> None:
    """Make the tables, or change them to the newest version, in one transaction."""
    if version is not None and version not in VERSIONS:
        raise fail(
            f"this logbook was written by a newer Keymallet (its tables are of version {version},"
            f" this program knows {VERSIONS[-1]})",
            file=location.said,
            hint="use that version, or a newer one; nothing was changed",
        )
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", MIGRATIONS)
    with writing(engine) as connection:
        # Another process may have done it meanwhile.
        if _version(connection) != VERSIONS[-1]:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")


def _is_ours(
    connection: Connection, location: Location, estate: str, organisation: str, *, is_named: bool
) -> bool:
    """Whether the logbook is this estate's; False if it is nobody's yet. Raises OtherEstateError else."""
    found = connection.execute(select(ESTATE)).first()
    if found is None:
        return False
    # The identity that an estate has by itself is the same for many: there the organisation tells them apart.
    if found.identity != estate or not (is_named or found.organisation == organisation):
        number = len(connection.execute(select(RUN.c.number)).all())
        said = (
            f"this is the logbook of another estate: {found.organisation}, {found.identity} ({number} runs)"
        )
        hint = f"name another folder in the estate file; this estate is {organisation}, {estate}"
        if found.identity == estate:
            hint += f'. Is it the same under another name? Then write identity = "{estate}" into its file'
        raise OtherEstateError(Problem(said, Place(location.said), hint=hint))
    return True


@contextmanager
def told(location: Location) -> Iterator[None]:
    """Say what a database has to complain of in one sentence, with what to do."""
    try:
        yield
    except exc.SQLAlchemyError as error:
        raise _complaint(location, error) from None
    except OSError as error:
        raise fail(
            f"the logbook cannot be written: {error.strerror or error}",
            file=str(error.filename or location.said),
            hint="nothing of this run is in it, and what was in it before is unharmed",
        ) from None


_SAID = (
    ("not a database", "this file is no logbook, or it is damaged", "put back a copy of it, or name another"),
    ("malformed", "the logbook's database is damaged", "put back a copy of it, or name another folder"),
    ("disk is full", "the disk is full", "nothing of this run is in it; make room, and judge again"),
    ("disk I/O error", "the disk does not take it", "nothing of this run is in it; look at the disk"),
    ("readonly", "it cannot be written to", "see whose it is; --no-record judges without writing a run"),
    ("locked", "another process has been writing it for too long", "wait for it to end, and try again"),
    (
        "unable to open",
        "its database cannot be opened",
        "see whose it is, and that its folder can be written to",
    ),
    ("no such table", "its tables are not all there", "put back a copy of it, or name another folder"),
)


def _complaint(location: Location, error: exc.SQLAlchemyError) -> KeymalletError:
    said = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
    for part, sentence, hint in _SAID:
        if part in said:
            return fail(sentence, file=location.said, hint=hint)
    return fail(f"the logbook cannot be used: {said}", file=location.said)
