"""Packages that only some outputs need: what to say where one is not installed."""

from __future__ import annotations

import importlib
from types import ModuleType

from keymallet.core.base.problems import KeymalletError, Problem


def extra(module: str, name: str, purpose: str) -> ModuleType:
    """A module of an optional extra. Raises KeymalletError with what to install."""
    try:
        return importlib.import_module(module)
    except ModuleNotFoundError as error:
        if error.name and not module.startswith(error.name):
            raise
        hint = f"pip install 'keymallet[{name}]'"
        raise KeymalletError(Problem(f"{purpose} need a package that is not installed", hint=hint)) from None
