"""Text patterns: `like` to a regular expression, and what is wrong with one."""

from __future__ import annotations

import re

import polars as pl


def like_to_regex(pattern: str) -> str:
    """Turn `adm-*` into an anchored regular expression: `*` any characters, `?` exactly one."""
    pieces = {"*": ".*", "?": "."}
    return "(?s)^" + "".join(pieces.get(character) or _escape(character) for character in pattern) + "$"


def _escape(character: str) -> str:
    return "\\" + character if not character.isalnum() and ord(character) < 128 else character


def regex_fault(regex: str) -> str:
    """What is wrong with a regular expression, or an empty string; asked of the engine that runs it."""
    try:
        pl.Series([""]).str.contains(regex)
    except pl.exceptions.ComputeError as error:
        lines = [line.strip() for line in str(error).splitlines() if line.strip()]
        reasons = [re.sub(r"^error:\s*", "", line) for line in lines if line.startswith("error:")]
        return reasons[0] if reasons else lines[-1]
    return ""
