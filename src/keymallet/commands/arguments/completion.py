"""Print the lines that let a shell complete commands, options, topics, rules and account names at a Tab.

They go into the file that the shell reads when it starts. Names of accounts come from the newest
snapshot of the estate in the folder where you are, or of the one that --estate names.
"""

from __future__ import annotations

import argparse

EXAMPLES = [
    ("keymallet completion bash", 'used in ~/.bashrc as: eval "$(keymallet completion bash)"'),
    ("keymallet completion zsh", 'used in ~/.zshrc after compinit as: eval "$(keymallet completion zsh)"'),
    ("keymallet completion fish > keymallet.fish", "goes into ~/.config/fish/completions"),
]

SHELLS = ("bash", "zsh", "fish")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=f"which: {', '.join(SHELLS)}")
