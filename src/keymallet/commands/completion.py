"""Print what lets a shell complete the words of this program."""

from __future__ import annotations

import argparse

from argcomplete.shell_integration import shellcode

from keymallet.commands.exit_codes import CLEAN


def run(options: argparse.Namespace) -> int:
    """Print the lines for one shell."""
    print(shellcode(["keymallet"], shell=options.shell))
    return CLEAN
