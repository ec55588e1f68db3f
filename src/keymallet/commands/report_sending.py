"""Sending what a report tells: letters by mail, each once a run, and messages to a log server."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime

from keymallet.commands.exit_codes import CLEAN, INCOMPLETE
from keymallet.core.base.listing import how_many
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import fail
from keymallet.reports import letter, syslog
from keymallet.reports.content import Content
from keymallet.reports.registry import Look
from keymallet.sending.log_server import LogServer
from keymallet.sending.log_server import send as send_messages
from keymallet.sending.outcome import Fate
from keymallet.sending.smtp import Mail, MailServer, send_all
from keymallet.sources.estate import Estate
from keymallet.sources.estate_servers import MailPlace
from keymallet.sources.shared.secret import read_secret
from keymallet.store.logbook.letters import SENDING, LetterLine, claim, known, settle
from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import RunLine
from keymallet.views.plain_table import PlainTable
from keymallet.views.terminal import console, moment, show_hints, text

_LETTER, _SYSLOG = "letter", "syslog"
NO_ADDRESS = "no address"
NOTHING = "nothing due"
WOULD = "would go"


@dataclass
class _Line:
    """One letter, and what became of it."""

    content: Content
    whose: str
    mail: str
    fate: str
    said: str = ""


def check_sending(options: argparse.Namespace, names: list[str]) -> None:
    """What is asked to be sent has to be something that can be."""
    if not options.send:
        if options.dry_run or options.again:
            raise fail("nothing is to be sent", hint="--dry-run and --again go with --send")
        return
    if other := [name for name in names if name not in (_LETTER, _SYSLOG)]:
        hint = "--send goes with --format letter, --format syslog or both"
        raise fail(f"{other[0]} is nothing that is sent", hint=hint)
    if _LETTER in names and options.each != "answerer":
        raise fail("letters are sent to those who answer", hint="--each answerer")


def check_servers(estate: Estate, names: list[str]) -> None:
    """The estate has to name the servers."""
    if _LETTER in names and estate.mail is None:
        hint = '[mail] with server = "mail.ferries.example" and from = "identity@ferries.example"'
        raise fail("this estate names no mail server", file=str(estate.file), hint=hint)
    if _SYSLOG in names and estate.log_server is None:
        hint = '[syslog] with server = "log.ferries.example:6514"'
        raise fail("this estate names no log server", file=str(estate.file), hint=hint)


def send(
    options: argparse.Namespace,
    estate: Estate,
    logbook: Logbook,
    chosen: tuple[RunLine, list[RunLine]],
    names: list[str],
    parts: dict[str, Content],
) -> int:
    """Send the parts of a report, and show what became of each; code 3 if something was not taken.

    `chosen` is the run it is of, among all runs.
    """
    run, runs = chosen
    codes = [CLEAN]
    if _SYSLOG in names:
        _send_messages(options, estate, list(parts.values()))
    if _LETTER in names:
        assert estate.mail is not None, "checked before"
        lines = [
            _Line(part, str(part.findings["answerer"][0] or "nobody"), letter.address(part), "")
            for part in parts.values()
        ]
        if options.dry_run:
            _rehearse(logbook, run, lines, again=options.again)
        else:
            _send_letters(estate.mail, estate, logbook, run, lines, again=options.again)
        newest = [each for each in runs if each.judged][-1]
        _show(run, newest, lines, estate, dry_run=options.dry_run)
        if any(line.fate in (Fate.FAILED, Fate.IN_DOUBT, SENDING) for line in lines):
            codes.append(INCOMPLETE)
    return max(codes)


def _rehearse(logbook: Logbook, run: RunLine, lines: list[_Line], *, again: bool) -> None:
    there = known(logbook, run.number)
    for line in lines:
        before = there.get(letter.known_by(line.content))
        if stays := _stays(line):
            line.fate = stays
        elif before is None or before.fate == Fate.FAILED or again:
            line.fate = WOULD
        else:
            _as_before(line, before)


def _send_letters(
    place: MailPlace, estate: Estate, logbook: Logbook, run: RunLine, lines: list[_Line], *, again: bool
) -> None:
    mine: list[tuple[_Line, str]] = []

    def claimed() -> Iterator[Mail]:
        # Claimed one by one: what was not come to when this is ended stays for the next time.
        for line in lines:
            key = letter.known_by(line.content)
            if stays := _stays(line):
                line.fate = stays
            elif before := claim(logbook, run.number, key, line.mail, again=again):
                _as_before(line, before)
            else:
                mine.append((line, key))
                look = Look(sender=place.sender, sent_at=datetime.now(UTC))
                yield Mail(line.mail, letter.write(line.content, look))

    try:
        for outcome in send_all(_server(place, estate), claimed()):
            line, key = mine[-1]
            line.fate, line.said = outcome.fate, outcome.said
            settle(logbook, run.number, key, outcome.fate, outcome.said)
    except BaseException as error:
        if mine and not mine[-1][0].fate:
            # What was interrupted may be with the server; what could not be begun is not.
            fate = Fate.FAILED if isinstance(error, Exception) else Fate.IN_DOUBT
            settle(logbook, run.number, mine[-1][1], fate, "it was broken off")
        raise


def _stays(line: _Line) -> str:
    """Why a letter goes to nobody, if it does not: what is exempt or was not seen asks nothing of anybody."""
    if not line.content.broken.height:
        return NOTHING
    return "" if line.mail else NO_ADDRESS


def _server(place: MailPlace, estate: Estate) -> MailServer:
    told = asdict(place)
    pointer = told.pop("password_from")
    password = read_secret(pointer, estate.folder, "mail, password-from").reveal() if pointer else ""
    return MailServer(**told, password=password)


def _as_before(line: _Line, before: LetterLine) -> None:
    line.fate = before.fate
    when = f"{before.at:%Y-%m-%d %H:%M}Z"
    if before.fate == Fate.SENT:
        line.said = f"on {when}, for this run already"
    elif before.fate == SENDING:
        line.said = f"since {when}, by another process or one that was ended"
    else:
        line.said = f"on {when}: {before.said}"


def _send_messages(options: argparse.Namespace, estate: Estate, parts: list[Content]) -> None:
    place = estate.log_server
    assert place is not None, "checked before"
    server = LogServer(place.host, place.port, place.ca, place.seconds)
    messages = [message for part in parts for message in syslog.messages(part)]
    out = console()
    if options.dry_run:
        out.print(text(f"{how_many(len(messages), 'message')} would go to {server.said}"))
        return
    send_messages(server, messages)
    out.print(text(f"{how_many(len(messages), 'message')} handed to {server.said}"))


def _show(run: RunLine, newest: RunLine, lines: list[_Line], estate: Estate, *, dry_run: bool) -> None:
    out = console()
    head = f"letters of run {run.number} of {moment(run.judged_at, estate.clock)}"
    out.print(text(f"{head}: nothing was sent" if dry_run else head, "bold"))
    if run.number < newest.number:
        when = moment(newest.judged_at, estate.clock)
        out.print(
            text(f"run {newest.number} of {when} is newer: what they say may be mended by now", "yellow")
        )
    table = PlainTable(header=False)
    table.add_column("", no_wrap=True)
    table.add_column("", overflow="fold", ratio=1)
    table.add_column("", overflow="fold", ratio=1)
    styles = {Fate.FAILED: "red", Fate.IN_DOUBT: "yellow", SENDING: "yellow", NO_ADDRESS: "yellow"}
    for line in lines:
        to = f"{line.whose} <{line.mail}>" if line.mail else line.whose
        about = letter.subject(line.content).partition(" (")[0]
        told = f"{about}; {line.said}" if line.said else about
        table.add_row(text(f"  {line.fate}", styles.get(line.fate, "")), text(plain(to)), text(plain(told)))
    out.print(table)
    out.print()
    show_hints(out, _next(lines, dry_run=dry_run))


def _next(lines: list[_Line], *, dry_run: bool) -> list[tuple[str, str]]:
    fates = {line.fate for line in lines}
    hints = []
    command = "keymallet report --format letter --each answerer --send"
    if dry_run and WOULD in fates:
        hints.append((command, "send them"))
    if Fate.FAILED in fates:
        hints.append((command, "try those that failed once more; the others stay as they are"))
    if fates & {Fate.IN_DOUBT, SENDING}:
        hints.append((f"{command} --again", "send all once more; some may arrive twice"))
    if NO_ADDRESS in fates:
        hints.append(("keymallet findings --by answerer", "whose no address is known; mail in [[answers]]"))
    return hints
