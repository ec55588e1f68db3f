"""The entry point: finds the command, and only then imports what it needs."""

from __future__ import annotations

import argparse
import contextlib
import errno
import gc
import importlib
import os
import sys
from collections.abc import Sequence
from types import ModuleType

from keymallet import __version__
from keymallet.commands.exit_codes import CLEAN, FAILED, READER_GONE, STOPPED
from keymallet.commands.paging import paged
from keymallet.commands.parsers import COMMANDS, PAGED, parser_of


def main(arguments: Sequence[str] | None = None, *, with_pager: bool = False) -> int:
    """Run one command and return its exit code. Commands that run others want no pager within."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    if not words or words[0] in ("-h", "--help", "help"):
        print(_help())
        return CLEAN if words else FAILED
    if words[0] in ("-V", "--version"):
        print(f"keymallet {__version__}")
        return CLEAN
    if words[0] not in COMMANDS:
        return _no_such_command(words[0])
    return _run(words[0], words[1:], with_pager)


def entry() -> None:
    """What the installed program runs: `main`, then the process ends at once.

    Python would take the tables in memory apart piece by piece first, which for a million accounts
    takes as long as judging them; the system takes them back whole. For the same reason garbage is
    seldom looked for: what is held are tables, and loading modules makes none.
    """
    gc.set_threshold(200_000)
    words = sys.argv[1:]
    try:
        if "_ARGCOMPLETE" in os.environ:
            from keymallet.commands.completing import complete

            complete()
        if not _make_streams_safe():
            raise OSError(errno.EBADF, "standard output is closed")
        code = main(words, with_pager=True)
        sys.stdout.flush()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else FAILED
    except BrokenPipeError:
        code = READER_GONE
    except KeyboardInterrupt:
        code = STOPPED
    except BaseException as error:
        from keymallet.commands.last_resort import sentence

        # Code 1 is that of a breach: nothing that ends the program unforeseen may leave with it.
        code = FAILED
        with contextlib.suppress(OSError):
            print(f"keymallet: {sentence(error, words)}", file=sys.stderr)
    with contextlib.suppress(OSError, ValueError, AttributeError):
        sys.stdout.flush()
    os._exit(code)


def _make_streams_safe() -> bool:
    """Let every character be written, whatever the encoding; False if there is no standard output at all."""
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: PTH123, SIM115  it stays open as long as the program
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    return sys.stdout is not None


def _run(name: str, words: list[str], with_pager: bool) -> int:
    options = parser_of(name).parse_args(words)
    from keymallet.core.base.problems import KeymalletError

    try:
        with paged(with_pager and name in PAGED and not options.no_pager):
            code: int = _module_of(name, options).run(options)
            sys.stdout.flush()
        return code
    except KeymalletError as error:
        from keymallet.views.problems import show_problems

        show_problems(error.problems)
        return FAILED
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        return STOPPED
    except BrokenPipeError:
        # Whoever read our output has gone; what is left to flush must not complain of it again.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return READER_GONE


def _module_of(name: str, options: argparse.Namespace) -> ModuleType:
    """The module that carries a command out, or one of its actions.

    Its arguments are declared apart from it, so that help and usage errors need nothing heavy: this is the
    one place where what is heavy is loaded late.
    """
    action = getattr(options, "action", None)
    return importlib.import_module(
        f"keymallet.commands.{name}_{action}" if action else f"keymallet.commands.{name}"
    )


def _help() -> str:
    width = max(map(len, COMMANDS))
    listed = "\n".join(f"  {name:{width}}  {purpose}" for name, purpose in COMMANDS.items())
    return f"""usage: keymallet COMMAND …

Judges every account of an organisation against its own authentication and credential policies,
and reports the accounts that fall short: which, why, and on what evidence.

commands, in the order of a working day:
{listed}

  keymallet COMMAND --help   what it takes, with examples
  keymallet --version        which version this is

new here?  keymallet demo; with exports of your own: keymallet start"""


def _no_such_command(word: str) -> int:
    from keymallet.core.base.nearest import did_you_mean

    hint = did_you_mean(word, COMMANDS) or '"keymallet --help" lists them'
    print(f'keymallet: there is no command "{ascii(word)[1:-1]}"; {hint}', file=sys.stderr)
    return FAILED
