"""Start a rulebook on one that ships."""

from __future__ import annotations

import argparse
from pathlib import Path

from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.writing import write_file
from keymallet.core.base.problems import fail
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.outputs.new_rulebook import new_rulebook
from keymallet.sources.rulebooks import is_shipped, no_such_book, open_included, shipped, shipped_text
from keymallet.views.rulebook import show_shipped
from keymallet.views.terminal import console, show_hints, text


def run(options: argparse.Namespace) -> int:
    """List what ships, or write the start of a book. Raises KeymalletError; never writes over a file."""
    out = console()
    if options.base is None:
        show_shipped(
            out, [(name, read_rulebook(shipped_text(name), name, open_included)) for name in shipped()]
        )
        show_hints(
            out, [("keymallet rules new --from base my-rules.toml", "start a rulebook on one of them")]
        )
        return CLEAN
    if not is_shipped(options.base):
        raise no_such_book(options.base)
    whole = shipped_text(options.base)
    written = (
        whole
        if options.whole
        else new_rulebook(options.base, read_rulebook(whole, options.base, open_included))
    )
    if options.file is None:
        print(written, end="")
        return CLEAN
    target = Path(options.file)
    if target.exists():
        raise fail("there is a file of that name already", file=options.file, hint="name another one")
    write_file(target, written.encode())
    out.print(text(f"{options.file} is written.", "bold"))
    show_hints(
        out,
        [
            (f"keymallet rules show {options.file}", "the book as it stands"),
            (f"keymallet rehearse --rulebook {options.file}", "what it would change"),
        ],
    )
    return CLEAN
