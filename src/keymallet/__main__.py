"""Lets `python -m keymallet` do what the installed `keymallet` does."""

import sys

from keymallet.commands.main import main

if __name__ == "__main__":
    sys.exit(main())
