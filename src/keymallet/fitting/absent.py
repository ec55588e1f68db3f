"""What a system may have no notion of: an export that does not tell of it says nothing on that."""

from __future__ import annotations

from collections.abc import Collection

FACTS = {
    "starts": "days from which accounts can be used",
    "ends": "days on which accounts end by themselves",
}
TABLES = {
    "key": "keys, tokens and certificates",
    "factor": "second factors",
    "elevation": "roles that are opened for a time",
}


def untold(told: Collection[str]) -> dict[str, str]:
    """Of the facts of accounts and of tables by their names, those that are not told, and what each is."""
    return {name: meaning for name, meaning in (FACTS | TABLES).items() if name not in told}
