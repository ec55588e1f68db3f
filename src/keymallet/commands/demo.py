"""Make the estate of the Gentian Valley Railway, a made-up organisation, and run the day on it."""

from __future__ import annotations

import argparse
import os
import signal
import tempfile
from pathlib import Path

import tomlkit

from keymallet.commands.exit_codes import BREACH, CLEAN, INCOMPLETE
from keymallet.commands.main import main
from keymallet.core.base.problems import fail
from keymallet.demo.certificates import make_certificate
from keymallet.demo.railway import write_estate
from keymallet.demo.service import TOKEN, Manners, serve
from keymallet.views.terminal import console, text

AT = "2026-11-24T09:00Z"
DAY = [
    ("First the accounts are read out of the systems they are in.", ["read", "--at", AT]),
    (
        "Then every account is judged by the railway's own rulebook.",
        ["judge", "--at", AT, "--worst", "4", "--record"],
    ),
    ("One account is looked at closely: can this person get in?", ["show", "i.schneetaler", "--at", AT]),
    (
        "A topic is looked at in depth: who has which factors, and who has to use them.",
        ["view", "factors", "--at", AT, "--rows", "3", "--worst", "1"],
    ),
    ("Who is left out of rules, approved by whom, until when.", ["exempt", "list", "--at", AT]),
    (
        "All findings go to a file that spreadsheets open.",
        ["judge", "--at", AT, "--format", "csv", "--output", "findings.csv"],
    ),
    (
        "What turns to breach in the next weeks, and a plan in which nobody is late.",
        ["ahead", "--at", AT, "--for", "6w", "--capacity", "40/week", "--spread", "--most", "4"],
    ),
    (
        "What would passwords for 90 days instead of 180 mean?",
        ["rehearse", "--at", AT, "--set", "limit.password-age=90d"],
    ),
    ("An export that nobody has a map for yet is looked at.", ["fit", "exports/cloud.json"]),
    ("And the rulebook is checked, as it is before every change to it.", ["rules", "check"]),
]


def run(options: argparse.Namespace) -> int:
    """Write the estate, then run the day on it. Raises KeymalletError if something else is in the way."""
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
    try:
        write_estate(folder)
    except OSError as error:
        raise fail(f"the estate cannot be written: {error.strerror or error}", file=str(folder)) from None
    out = console()
    out.print(
        text("The Gentian Valley Railway is made up: its people, hosts and domains do not exist.", "dim")
    )
    out.print(text(f"Its estate is now in {folder}: estate.toml, rulebook.toml, exports, hosts.", "dim"))
    before = Path.cwd()
    os.chdir(folder)
    try:
        worst = CLEAN
        for sentence, words in DAY:
            out.print()
            out.print(text(sentence, "italic"))
            out.print(text(f"$ keymallet {' '.join(words)}", "bold cyan"))
            code = main(words)
            out.print(text(f"(ends with code {code})", "dim"))
            if code not in (CLEAN, BREACH, INCOMPLETE):
                worst = code
    finally:
        os.chdir(before)
    out.print()
    out.print(text(f"Now go on yourself: cd {folder}, and keymallet --help.", "bold"))
    return worst


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
