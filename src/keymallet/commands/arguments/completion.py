"""Print the lines that let a shell complete commands, options, topics, rules and account names at a Tab.

They go into the file that the shell reads when it starts. Names of accounts come from the newest
snapshot of the estate in the folder where you are, or of the one that --estate names.
"""

from __future__ import annotations

import argparse

EXAMPLES = [
    ('eval "$(keymallet completion bash)"', "as a line of ~/.bashrc"),
    ('eval "$(keymallet completion zsh)"', "as a line of ~/.zshrc, after compinit"),
    ("keymallet completion fish > ~/.config/fish/completions/keymallet.fish", "for fish"),
]

SHELLS = ("bash", "zsh", "fish")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=f"which: {', '.join(SHELLS)}")
