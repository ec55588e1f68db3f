"""Lets `python -m keymallet` do what the installed `keymallet` does."""

from keymallet.commands.main import entry

if __name__ == "__main__":
    entry()
