"""What several commands share: their options, and opening the estate, the snapshot, the rulebook."""

from __future__ import annotations

import argparse
import importlib
import io
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO
from zoneinfo import ZoneInfo

if TYPE_CHECKING:
    import polars as pl

    from keymallet.core.facts.evidence import Evidence
    from keymallet.core.facts.reading import Reading
    from keymallet.core.judging.judge import Judgement
    from keymallet.core.judging.run import Run
    from keymallet.core.language.typed import Typed
    from keymallet.core.rulebook.model import Rulebook
    from keymallet.core.rulebook.register import Register
    from keymallet.sources.estate import Estate
    from keymallet.sources.request import Watcher
    from keymallet.store.carry import Earlier
    from keymallet.store.snapshot import Snapshot


def add_estate(parser: argparse.ArgumentParser) -> None:
    """Add --estate."""
    parser.add_argument(
        "--estate", metavar="FILE", default="estate.toml", help="the estate file (default: estate.toml here)"
    )


def add_at(parser: argparse.ArgumentParser, what: str) -> None:
    """Add --at."""
    parser.add_argument(
        "--at", metavar="INSTANT", help=f"{what}, like 2026-11-24 or 2026-11-24T09:00Z (default: now)"
    )


def add_judging(parser: argparse.ArgumentParser) -> None:
    """Add the options of everything that judges."""
    add_estate(parser)
    parser.add_argument(
        "--snapshot", metavar="FOLDER", help="judge this snapshot (default: the estate's newest)"
    )
    parser.add_argument("--rulebook", metavar="FILE", help="judge by this rulebook (default: the estate's)")
    add_register(parser)
    add_at(parser, "judge as of this instant")


def add_register(parser: argparse.ArgumentParser) -> None:
    """Add --register."""
    parser.add_argument(
        "--register", metavar="FILE", help="the register of exemptions (default: the estate's, if it has one)"
    )


def add_actions(parser: argparse.ArgumentParser) -> Callable[[str, str], argparse.ArgumentParser]:
    """Let a command have actions; what is returned adds one by its name and purpose."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="ACTION")

    def action(name: str, purpose: str) -> argparse.ArgumentParser:
        return actions.add_parser(
            name, help=purpose, description=f"{purpose[:1].upper()}{purpose[1:]}.", allow_abbrev=False
        )

    return action


def run_action(command: str, options: argparse.Namespace) -> int:
    """Run the action of a command that stands in a module of its own, such as `rules_check`."""
    module = importlib.import_module(f"keymallet.commands.{command}_{options.action}")
    action: Callable[[argparse.Namespace], int] = module.run
    return action(options)


def instant(written: str | None, clock: ZoneInfo) -> datetime:
    """The instant asked for with --at, else now. A date without zone is in the estate's clock."""
    if written is None:
        return datetime.now(UTC)
    from keymallet.core.base.problems import fail
    from keymallet.core.language.clocks import AN_INSTANT, instant_in

    found = instant_in(written, clock)
    if found is None:
        raise fail(f'--at "{written}" is no instant', hint=AN_INSTANT)
    return found


def number_of(noun: str) -> Callable[[str], int]:
    """The type of an argument that says how many lines to show."""

    def read(written: str) -> int:
        if not written.isdigit() or len(written) > 6:
            raise argparse.ArgumentTypeError(f'"{written}" is no number of {noun}')
        return int(written)

    return read


@contextmanager
def watched() -> Iterator[Watcher | None]:
    """Bars that tell how far the sources are, if somebody is watching; else nothing is even loaded for it."""
    if not sys.stderr.isatty():
        yield None
        return
    from keymallet.views.progress import bars

    with bars() as watcher:
        yield watcher


def open_estate(file: str) -> Estate:
    """Read the estate file."""
    from keymallet.core.base.problems import fail
    from keymallet.sources.estate import read_estate

    path = Path(file)
    if file == "estate.toml" and not path.exists():
        raise fail(
            "there is no estate file here",
            file=file,
            hint="name one with --estate, or see one: keymallet demo",
        )
    return read_estate(path)


def read_into_snapshot(
    estate: Estate, at: datetime, *, only: Sequence[str] = (), accept_drop: bool = False
) -> Snapshot:
    """Read the sources of the estate and write them as a new snapshot.

    With `only`, the others are taken over from the newest snapshot as they were read then. Raises
    KeymalletError if nothing could be read, or if a source has lost more accounts than is taken in silence.
    """
    from keymallet import __version__
    from keymallet.core.base.problems import KeymalletError
    from keymallet.core.linking.passes import link
    from keymallet.store.carry import Earlier, drops, mark_renames
    from keymallet.store.snapshot import newest_snapshot, write_snapshot

    newest = newest_snapshot(estate.snapshots)
    earlier = Earlier(newest) if newest else None
    readings = _readings(estate, at, earlier, only)
    fresh = [reading for reading in readings if reading.read_at is None and not reading.failed]
    if not fresh:
        raise KeymalletError(dict.fromkeys(problem for reading in readings for problem in reading.problems))
    lost = [
        problem
        for source in estate.sources
        for problem in drops(readings, source.name, earlier, estate.largest_drop)
    ]
    if lost and not accept_drop:
        raise KeymalletError(lost)
    for reading in fresh:
        mark_renames(reading, earlier)
    linked = link(readings, estate.linking)
    return write_snapshot(
        estate.snapshots,
        version=__version__,
        organisation=estate.organisation,
        clock=estate.clock.key,
        read_at=at,
        readings=linked.readings,
        tables=linked.tables,
    )


def _readings(estate: Estate, at: datetime, earlier: Earlier | None, only: Sequence[str]) -> list[Reading]:
    """Every source's reading in the estate's order: read now, taken over, or carried as not read."""
    from keymallet.core.base.problems import fail
    from keymallet.core.facts.reading import is_of
    from keymallet.sources.reading import read_sources
    from keymallet.store.carry import not_read

    wanted = [source for source in estate.sources if not only or source.name in only]
    if only and earlier is None and len(wanted) < len(estate.sources):
        hint = "read all once, without --only"
        raise fail("there is no snapshot yet to take the other sources from", hint=hint)
    with watched() as watcher:
        read = read_sources(wanted, estate, at, watcher)
    found: list[Reading] = []
    for source in estate.sources:
        if source not in wanted:
            assert earlier is not None
            found += earlier.readings_of(source.name)
            continue
        for reading in (each for each in read if is_of(each.source, source.name)):
            found += not_read(reading, earlier) if reading.failed else [reading]
    return found


@dataclass(frozen=True)
class JudgingInputs:
    """All that a judging takes."""

    organisation: str
    clock: ZoneInfo
    at: datetime
    snapshot: Snapshot
    rulebook: Rulebook
    register: Register | None
    gaps: list[str]

    def evidence(
        self, asked: Iterable[tuple[str, Typed]] | None = None, also: Sequence[str] = ()
    ) -> Evidence:
        """The snapshot's tables; with `asked`, the columns that these expressions and the register need.

        `also` are facts of accounts that are wanted besides.
        """
        if asked is None:
            return self.snapshot.evidence()
        from keymallet.core.evaluating.context import columns_used
        from keymallet.core.judging.register_facts import NEEDED

        used = columns_used(asked)
        needed = (*also, *(NEEDED if self.register is not None else ()))
        used.setdefault("account", set()).update(needed)
        return self.snapshot.evidence(used)

    def judge(
        self, evidence: Evidence, book: Rulebook | None = None, at: datetime | None = None
    ) -> Judgement:
        """Judge by the case's own book and instant, or by others, with the register in force."""
        from keymallet.core.judging.judge import judge

        return judge(evidence, book or self.rulebook, at or self.at, self.clock, self.register)

    def run(self, judgement: Judgement) -> Run:
        """What outputs have to carry about this judging."""
        from keymallet.core.judging.run import Run

        manifest = self.snapshot.manifest
        return Run(
            organisation=self.organisation,
            at=self.at,
            clock=self.clock,
            rulebook_title=self.rulebook.title,
            rulebook_edition=self.rulebook.edition,
            rulebook_digest=self.rulebook.digest,
            snapshot_digest=self.snapshot.digest,
            read_at=manifest.read_at,
            sources=len(manifest.sources),
            accounts=judgement.evidence.tables["account"].height,
            counts=judgement.counts(),
            refused=self.snapshot.refused,
            unreadable=self.snapshot.unreadable,
            gaps=self.gaps,
        )


def open_case(options: argparse.Namespace, *, with_register: bool = True) -> JudgingInputs:
    """Open what the options name; reads first if the estate has no snapshot yet."""
    from keymallet.store.snapshot import newest_snapshot, read_snapshot

    # A snapshot and a rulebook named outright can be judged without the estate file.
    estate = None if options.snapshot and options.rulebook else open_estate(options.estate)
    rulebook = read_rulebook_file(Path(options.rulebook) if options.rulebook else estate.rulebook)  # type: ignore[union-attr]
    if options.snapshot:
        snapshot = read_snapshot(Path(options.snapshot))
    else:
        assert estate is not None
        found = newest_snapshot(estate.snapshots)
        snapshot = found or read_into_snapshot(estate, datetime.now(UTC))
    clock = estate.clock if estate else ZoneInfo(snapshot.manifest.clock)
    at = instant(options.at, clock)
    organisation = estate.organisation if estate else snapshot.manifest.organisation
    named = getattr(options, "register", None)
    file = Path(named) if named else estate.register if estate else None
    register = open_register(file, clock) if file and with_register else None
    return JudgingInputs(organisation, clock, at, snapshot, rulebook, register, _gaps(snapshot, estate, at))


def open_register(path: Path, clock: ZoneInfo) -> Register:
    """Read and check a register file."""
    from keymallet.core.rulebook.register import read_register
    from keymallet.sources.request import read_file, utf8_text

    return read_register(utf8_text(read_file(path, str(path)), str(path)), str(path), clock)


def read_rulebook_file(path: Path) -> Rulebook:
    """Read and check a rulebook file, with what it includes; a bare name is one that ships."""
    from keymallet.core.rulebook.reading import read_rulebook
    from keymallet.sources.rulebooks import open_included, read_book

    text, name = read_book(path)
    return read_rulebook(text, name, open_included)


def _gaps(snapshot: Snapshot, estate: Estate | None, at: datetime) -> list[str]:
    """Why the evidence is incomplete: records that were refused, sources read too long ago."""
    from keymallet.core.language.literals import span_text

    gaps = []
    for name, source in snapshot.manifest.sources.items():
        if source.failed:
            gaps.append(f"{name}: not read: {source.failed}")
        gaps += [f"{name}: {reason}" for reason in source.incomplete]
        refused = sum(intake.refused for intake in source.intake.values())
        if refused:
            gaps.append(f"{name}: {refused:,} {'record was' if refused == 1 else 'records were'} refused")
    for declared in estate.sources if estate else ():
        read = [
            source.read_at
            for name, source in snapshot.manifest.sources.items()
            if name == declared.name or name.startswith(declared.name + "/")
        ]
        if not read:
            gaps.append(f"{declared.name}: not in the snapshot")
        elif declared.stale_after is not None and at - min(read) > declared.stale_after:
            age = timedelta(hours=(at - min(read)) // timedelta(hours=1))
            gaps.append(
                f"{declared.name}: read {span_text(age)} before, more than {span_text(declared.stale_after)}"
            )
    return gaps


def write_file(path: Path, data: bytes) -> None:
    """Write a file whole or not at all. Raises KeymalletError if it cannot be written."""
    from keymallet.core.base.problems import fail

    if path.is_dir():
        raise fail("this is a folder, not a file", file=str(path), hint="--output takes the name of a file")
    unfinished = path.with_name(f".{path.name}.unfinished")
    try:
        unfinished.write_bytes(data)
        unfinished.replace(path)
    except OSError as error:
        unfinished.unlink(missing_ok=True)
        raise fail(f"the file cannot be written: {error.strerror or error}", file=str(path)) from None


def write_rows(options: argparse.Namespace, frame: pl.DataFrame, head: dict[str, Any], name: str) -> None:
    """Write rows as --format asks, to --output or standard output; `head` and `name` are for JSON."""
    from keymallet.outputs.frames import FORMATS

    data = FORMATS[options.format](frame, head, name, getattr(options, "spreadsheet", False))
    if options.output:
        write_file(Path(options.output), data)
    else:
        sys.stdout.buffer.write(data)


def add_rows_format(parser: argparse.ArgumentParser) -> None:
    """Add --format and --output of commands that give rows."""
    parser.add_argument(
        "--format", choices=("table", "csv", "json", "jsonl"), default="table", help="default: table"
    )
    parser.add_argument("--output", metavar="FILE", help="write it there instead of printing it")


@contextmanager
def output_stream(path: str | None) -> Iterator[TextIO]:
    """Standard output, or a file that is written when all has been said."""
    if path is None:
        yield sys.stdout
        return
    text = io.StringIO()
    yield text
    write_file(Path(path), text.getvalue().encode())
