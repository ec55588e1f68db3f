"""Turn a run into something for somebody else: a page, a workbook, the text of a ticket, and open formats."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from keymallet.commands.arguments.report import NARROWED
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.logbooks import open_logbook
from keymallet.commands.opening import open_estate
from keymallet.commands.report_content import content_of, narrowed
from keymallet.commands.runs import chosen_run
from keymallet.commands.writing import write_file
from keymallet.core.base.listing import how_many
from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.problems import fail
from keymallet.core.history.columns import FINDING
from keymallet.core.history.states import LASTING
from keymallet.core.rulebook.model import SEVERITIES
from keymallet.reports.content import Content
from keymallet.reports.registry import REPORTS, Issuer, Look, ReportFormat
from keymallet.sources.estate import Estate
from keymallet.sources.shared.secret import read_secret
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import console, moment, show_hints, text

_LEAST_OF_ID = 4
_DEVICE = re.compile(r"(?i)(con|prn|aux|nul|com\d|lpt\d)(\..*)?")
"""Names that are devices on some systems, whatever their ending."""


def run(options: argparse.Namespace) -> int:
    """Write the reports that are asked for. Raises KeymalletError if one cannot be made."""
    if options.list:
        _show_formats()
        return CLEAN
    names = list(dict.fromkeys(options.format or ["page"]))
    sending = _sending(options, names)
    if options.into or options.output or not sending:
        _check_places(options, names)
    templates = _templates(options.template)
    estate = open_estate(options.estate)
    if sending:
        sending.check_servers(estate, names)
    logbook = open_logbook(estate)
    runs = logbook.runs()
    chosen = chosen_run(runs, options.run, estate.clock)
    parts = _parts_asked(options, estate, logbook, runs, chosen, names)
    code = sending.send(options, estate, logbook, (chosen, runs), names, parts) if sending else CLEAN
    if options.into or options.output:
        _write(options, estate, names, parts, templates)
        _show(options, names, parts, chosen)
    return code


def _sending(options: argparse.Namespace, names: list[str]) -> Any:
    """What sends, if something is to be sent."""
    if not (options.send or options.dry_run or options.again):
        return None
    from keymallet.commands import report_sending

    report_sending.check_sending(options, names)
    return report_sending


def _parts_asked(
    options: argparse.Namespace,
    estate: Estate,
    logbook: Logbook,
    runs: list[RunLine],
    chosen: RunLine,
    names: list[str],
) -> dict[str, Content]:
    """The reports that are asked for, by the names of their files."""
    content, kept = content_of(logbook, chosen, _before(runs, chosen))
    wanted = {name: getattr(options, name) for name in NARROWED if getattr(options, name)}
    whole = not (wanted or options.each or options.finding)
    finding = _finding(content, options.finding) if options.finding else ""
    _check_wanted(content, wanted)
    formats = [REPORTS[name] for name in names]
    drawn = whole and any(each.drawn for each in formats)
    ahead = whole and any(each.ahead for each in formats)
    placed = any(each.placed for each in formats)
    if drawn or ahead or placed:
        from keymallet.commands.report_drawn import completed

        content = completed(content, kept, estate, drawn=drawn, ahead=ahead, placed=placed)
    return {"report": content} if whole else _parts(content, wanted, finding, options.each)


def _write(
    options: argparse.Namespace,
    estate: Estate,
    names: list[str],
    parts: dict[str, Content],
    templates: Path | None,
) -> None:
    sender = estate.mail.sender if estate.mail else ""
    issuer = _issuer(estate) if "set" in names else None
    for part, told in parts.items():
        for name in names:
            place = _place(options, part, name)
            _make_folder(place.parent)
            look = Look(templates, place.name, options.spreadsheet, sender, issuer)
            form = REPORTS[name]
            shown = told.to_draw() if form.drawn else told
            write_file(place, form.write(shown, look))
            if beside := form.beside:
                for named, data in beside(shown, look).items():
                    write_file(place.parent / named, data)


def _place(options: argparse.Namespace, part: str, name: str) -> Path:
    return Path(options.output) if options.output else Path(options.into) / (part + REPORTS[name].ending)


def _issuer(estate: Estate) -> Issuer | None:
    """Who signs tokens, as the estate says."""
    place = estate.events
    if place is None:
        return None
    key = read_secret(place.sign_with, estate.folder, "events, sign-with").reveal()
    return Issuer(place.issuer, place.audience, key)


def _make_folder(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise fail(f"the folder cannot be made: {error.strerror or error}", file=str(folder)) from None


def _check_places(options: argparse.Namespace, names: list[str]) -> None:
    if options.output is None and options.into is None:
        raise fail("where is it to be written?", hint="--into FOLDER, or --output FILE for a single one")
    if options.output and (options.into or len(names) > 1 or options.each):
        hint = "--into FOLDER takes as many as there are"
        raise fail("--output is for a single report", hint=hint)
    wanted = Path(options.into) if options.into else Path(options.output).parent
    there = next(folder for folder in (wanted.absolute(), *wanted.absolute().parents) if folder.exists())
    if not there.is_dir():
        raise fail(
            "this is a file, and no folder", file=str(there), hint="name another place for the reports"
        )


def _templates(folder: str | None) -> Path | None:
    if folder is None:
        return None
    if not Path(folder).is_dir():
        raise fail("this is no folder with templates", file=folder, hint="page.html, page.css or colours.css")
    return Path(folder)


def _before(runs: list[RunLine], chosen: RunLine) -> RunLine | None:
    earlier = [run for run in runs if run.judged and run.number < chosen.number]
    return earlier[-1] if earlier else None


def _finding(content: Content, wanted: str) -> str:
    known = content.findings[FINDING]
    if len(wanted) < _LEAST_OF_ID:
        raise fail(f'"{wanted}" is too short for an id', hint="give at least four of its digits")
    found = known.filter(known.str.starts_with(wanted.lower()))
    if len(found) != 1:
        said = "no finding that is open" if not len(found) else f"{len(found)} findings"
        raise fail(f'"{wanted}" is {said} in this run', hint="keymallet findings lists them with their ids")
    return str(found[0])


def _check_wanted(content: Content, wanted: dict[str, list[str]]) -> None:
    """What is asked for has to be there: a report of nobody by mistake would look like good news."""
    known: dict[str, set[str]] = {
        "topic": {rule.topic for rule in content.rules if rule.topic},
        "severity": {*SEVERITIES},
        "rule": {rule.id for rule in content.rules},
        "state": {*map(str, LASTING)},
    }
    for name, values in wanted.items():
        there = known[name] if name in known else {*content.findings[name].drop_nulls()}
        for value in values:
            if value not in there:
                listed = sorted(map(str, there))
                hint = did_you_mean(value, listed) or f"there are: {', '.join(listed[:12])}"
                raise fail(f'--{name}: nothing here has "{value}"', hint=hint)


def _parts(
    content: Content, wanted: dict[str, list[str]], finding: str, each: str | None
) -> dict[str, Content]:
    """The reports by the names of their files: one, or one for each."""
    if each is None:
        return {f"finding-{finding}" if finding else "report": narrowed(content, wanted, finding)}
    # What has none is nobody's, and has a report as well: else it would be in no one's.
    values = content.findings[each].fill_null("").unique(maintain_order=True).to_list()
    if each in wanted:
        values = [value for value in values if value in wanted[each]]
    parts: dict[str, Content] = {}
    for value in sorted(values):
        part = narrowed(content, {**wanted, each: [value]}, finding)
        if part.findings.height:
            parts[file_name(value, parts)] = part
    return parts


def file_name(value: str, taken: Iterable[str]) -> str:
    """A file name for a report of somebody or something, that every system takes, and no two have."""
    name = re.sub(r"[^\w.-]+", "-", value).strip("-.")[:60] or ("unnamed" if value else "nobody")
    if _DEVICE.fullmatch(name):
        name += "-"
    number, found, known = 1, name, {each.lower() for each in taken}
    while found.lower() in known:
        number += 1
        found = f"{name}-{number}"
    return found


def _show(options: argparse.Namespace, names: list[str], parts: dict[str, Content], chosen: RunLine) -> None:
    out = console()
    if not parts:
        out.print(text("nothing is open: nothing was written"))
        return
    clock = next(iter(parts.values())).clock
    out.print(text(f"run {chosen.number} of {moment(chosen.judged_at, clock)}", "bold"))
    table = PlainTable(header=False)
    table.add_column("", overflow="fold")
    table.add_column("", justify="right", no_wrap=True)
    for part, told in parts.items():
        for name in names:
            table.add_row(text(f"  {_place(options, part, name)}"), how_many(told.findings.height, "finding"))
    out.print(table)
    out.print()
    show_hints(out, [("keymallet report --list", "every format, and for whom it is")])


def _show_formats() -> None:
    out = console()
    table = PlainTable()
    table.add_column("format", no_wrap=True)
    table.add_column("for", ratio=1, overflow="fold")
    table.add_column("needs", no_wrap=True)
    for name, form in REPORTS.items():
        table.add_row(text(name, "bold"), text(form.audience), text(_needs(form), "dim"))
    out.print(table)


def _needs(form: ReportFormat) -> str:
    return f"pip install 'keymallet[{form.extra}]'" if form.extra else ""
