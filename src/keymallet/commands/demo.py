"""Make the estate of the Gentian Valley Railway, a made-up organisation, and run four weeks on it."""

from __future__ import annotations

import argparse
import email
import email.policy
import os
import shlex
import signal
import tempfile
from email.message import EmailMessage
from pathlib import Path

import tomlkit

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.main import main
from keymallet.commands.paging import first_lines
from keymallet.core.base.listing import how_many
from keymallet.core.base.problems import fail
from keymallet.demo.certificates import make_certificate
from keymallet.demo.railway import write_estate
from keymallet.demo.service import TOKEN, Manners, serve
from keymallet.demo.weeks import LAST, instant_of
from keymallet.views.terminal import console, text

AT = f"{instant_of(LAST):%Y-%m-%dT%H:%MZ}"
BEFORE = f"{instant_of(LAST - 1):%Y-%m-%d}"
ANSWERER = "Vera Arvbichler"
LETTER = "letter.eml"
MORNING = [
    ("It is the fourth Tuesday. The accounts are read out of the systems they are in.", ["read", "--at", AT]),
    (
        "Every account is judged by the railway's own rulebook, and the run goes into the logbook.",
        ["judge", "--at", AT, "--worst", "4", "--record"],
    ),
    (
        "What is new since last Tuesday, what is back, what was mended, what became late, and why.",
        ["changes", "--from", BEFORE, "--rows", "1"],
    ),
    ("Whose it is.", ["findings", "--by", "answerer"]),
    ("What is late, the worst first.", ["findings", "--late", "--rows", "5"]),
    ("How the four weeks went.", ["trend"]),
    ("One account is looked at closely: can this person get in?", ["show", "i.schneetaler", "--at", AT]),
    (
        "A topic is looked at in depth: who has which factors, and who has to use them.",
        ["view", "factors", "--at", AT, "--rows", "3", "--worst", "1"],
    ),
    ("Who is left out of rules, approved by whom, until when.", ["exempt", "list", "--at", AT]),
    (
        "What turns to breach in the next weeks, and a plan in which nobody is late.",
        ["ahead", "--at", AT, "--for", "6w", "--capacity", "40/week", "--spread", "--most", "4"],
    ),
    (
        "What would passwords for 90 days instead of 180 mean?",
        ["rehearse", "--at", AT, "--set", "limit.password-age=90d"],
    ),
    (
        "All findings go to a file that spreadsheets open.",
        ["judge", "--at", AT, "--format", "csv", "--output", "findings.csv"],
    ),
    (
        "Forty people come for the winter: their accounts are looked through before they are made.",
        ["vet", "joiners.csv", "--map", "joiners.toml", "--at", AT, "--rows", "3"],
    ),
    (
        "What would mend all this, tried on the evidence before anybody changes anything?",
        ["mend", "--all", "--preview", "--rows", "2", "--at", AT],
    ),
    ("An export that nobody has a map for yet is looked at.", ["fit", "exports/cloud.json"]),
    ("The rulebook is checked, as it is before every change to it.", ["rules", "check"]),
    ("A page goes to those who were not here: managers, auditors.", ["report", "--into", "reports"]),
    (
        "And who answers for something gets a letter of what is theirs. This is one; nothing is sent.",
        ["report", "--format", "letter", "--answerer", ANSWERER, "--output", LETTER],
    ),
]
SCREEN = 28
"""How many lines of each command's output are shown: its first screen."""


def run(options: argparse.Namespace) -> int:
    """Write the estate, then run the morning on it. Raises KeymalletError if something else is in the way."""
    if options.serve:
        with tempfile.TemporaryDirectory(prefix="keymallet-demo-") as made:
            return _serve(options, Path(made))

    folder = Path(options.folder)
    if (
        folder.exists()
        and not (folder / "ground-truth.csv").is_file()
        and (not folder.is_dir() or any(folder.iterdir()))
    ):
        raise fail(
            "something else is here already", file=str(folder), hint="name a folder that is new or empty"
        )
    out = console()
    out.print(
        text("The Gentian Valley Railway is made up: its people, hosts and domains do not exist.", "dim")
    )
    out.print(text(f"Its estate goes into {folder}: estate.toml, rulebook.toml, exports, hosts.", "dim"))
    before = Path.cwd()
    # What was read here before stays: only the weeks that are missing are made.
    first = 1 + sum((folder / "snapshots" / _snapshot_of(week)).exists() for week in range(1, LAST))
    for week in range(first, LAST):
        _write(folder, week)
        os.chdir(folder)
        try:
            _live_through(week)
        finally:
            os.chdir(before)
    _write(folder, LAST)
    os.chdir(folder)
    try:
        worst = max(_shown(sentence, words) for sentence, words in MORNING)
        if worst == CLEAN:
            _show_letter(Path(LETTER))
    finally:
        os.chdir(before)
    out.print()
    out.print(text(f"Now go on yourself: cd {folder}, and keymallet --help.", "bold"))
    return worst


def _write(folder: Path, week: int) -> None:
    try:
        write_estate(folder, week)
    except OSError as error:
        raise fail(f"the estate cannot be written: {error.strerror or error}", file=str(folder)) from None


def _snapshot_of(week: int) -> str:
    return f"{instant_of(week):%Y-%m-%dT%H%M%SZ}"


def _live_through(week: int) -> None:
    """Read and judge one of the weeks before, and say in a line how it went."""
    at = instant_of(week)
    with first_lines(0):
        for words in (["read"], ["judge", "--record"]):
            main([*words, "--at", f"{at:%Y-%m-%dT%H:%MZ}"])
    console().print(text(f"Tuesday {at.day} {at:%B}: {_STORIES[week]}"))


_STORIES = {
    1: "the first run; the logbook begins.",
    2: "the export of the cloud service is not there: what is in it was not seen.",
    3: "passwords are good for 180 days now, not 365; an exemption has ended.",
}


def _shown(sentence: str, words: list[str]) -> int:
    """Run one command and show the first screen of what it says; its code, if it could not be carried out."""
    out = console()
    out.print()
    out.print(text(sentence, "italic"))
    out.print(text(f"$ keymallet {shlex.join(words)}", "bold cyan"))
    out.file.flush()
    with first_lines(SCREEN) as left_out:
        code = main(words)
    more = f"{how_many(left_out[0], 'line')} more; " if left_out[0] else ""
    out.print(text(f"({more}ends with code {code})", "dim"))
    return CLEAN if code in (CLEAN, BREACH, INCOMPLETE) else code


def _show_letter(file: Path) -> None:
    """The letter's plain text, as whoever gets it sees it."""
    with file.open("rb") as opened:
        letter = email.message_from_binary_file(opened, policy=email.policy.default)
    body = letter.get_body(("plain",))
    assert isinstance(body, EmailMessage), "every letter has a plain text"
    out = console()
    out.print()
    lines = [f"To: {letter['to']}", f"Subject: {letter['subject']}", "", *body.get_content().splitlines()]
    for line in lines[:SCREEN]:
        out.print(text(f"  {line}", "dim"), soft_wrap=True)
    if len(lines) > SCREEN:
        out.print(text(f"  ({how_many(len(lines) - SCREEN, 'line')} more)", "dim"))


def _serve(options: argparse.Namespace, folder: Path) -> int:
    """Serve the tenant until somebody stops it; certificates are made in the folder.

    Raises KeymalletError if the port is taken.
    """
    manners = Manners(
        options.slow, options.busy, options.cut, options.changing, options.by_cursor, options.token_for
    )
    signer, certificate = make_certificate(folder, options.tls) if options.tls else (None, None)
    try:
        server = serve(manners, options.port, certificate)
    except (OSError, OverflowError) as error:
        raise fail(
            f"port {options.port} cannot be used: {error}", hint="--port 0 takes any free one"
        ) from None
    out = console()
    out.print(text("A cloud directory of the Gentian Valley Railway, until Ctrl-C.", "bold"))
    out.print(text("In an estate file:", "dim"))
    address = f"{'https' if signer else 'http'}://127.0.0.1:{server.server_port}"
    for line in [
        *_section("cloud", address, signer),
        "",
        *_section("staff", f"{address}/staff", signer),
        *_STAFF,
    ]:
        out.print(text(f"  {line}" if line else ""), soft_wrap=True)
    out.print(text(f"and in the shell: export GVR_TOKEN={TOKEN}"), soft_wrap=True)
    out.file.flush()
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # so that what was made is taken away again
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        out.print(text("stopped", "dim"))
    finally:
        server.server_close()
    return CLEAN


_STAFF = [
    "roster     = true",
    'contracts  = { permanent = "staff", contract = "contractor", agency = "external" }',
    'plain      = "through"',
    "[source.staff.facts]",
    'joins      = "urn:gvr:scim:schemas:extension:employment:1.0:User:firstDay"',
    'leaves     = "urn:gvr:scim:schemas:extension:employment:1.0:User:lastDay"',
    'status     = "urn:gvr:scim:schemas:extension:employment:1.0:User:state"',
]
"""What the section of the staff list has besides."""


def _section(name: str, address: str, signer: Path | None) -> list[str]:
    """The lines of an estate file for one of the services."""
    section = tomlkit.table()
    section.add("read", "scim")
    section.add("url", address)
    section.add("token-from", "env:GVR_TOKEN")
    if signer:
        section.add("ca-file", str(signer))
    document = tomlkit.document()
    document.add("source", tomlkit.table(is_super_table=True).add(name, section))
    return tomlkit.dumps(document).splitlines()
