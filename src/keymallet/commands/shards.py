"""The shards of the snapshot that the options of a command name, opened to be asked."""

from __future__ import annotations

import argparse
from contextlib import AbstractContextManager

from keymallet.commands.judging_inputs import JudgingInputs
from keymallet.core.language.typed import Typed
from keymallet.sharded.opened import Shards, opened_shards
from keymallet.sharded.tasks import Basis


def shards_of(
    options: argparse.Namespace, inputs: JudgingInputs, other: list[tuple[str, Typed]] | None = None
) -> AbstractContextManager[Shards]:
    """Open them, to be asked what the rulebook asks, or `other` expressions; by --workers processes."""
    basis = Basis(inputs.rulebook, inputs.register, inputs.at, inputs.clock, other)
    return opened_shards(inputs.snapshot, basis, workers=options.workers)
