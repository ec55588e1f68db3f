"""What parts of the evidence that are linked one by one have to tell each other first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from keymallet.core.linking.linked import LinkedReadings, LinkingRules


@dataclass(frozen=True, slots=True)
class Telling:
    """One round in which every shard tells something of its rows, so that all know it of all rows.

    `tell` gives what a shard has to say, or None; its last argument is what the rounds before came to.
    `together` makes one of what the shards said, in their order; where none said anything, that is None,
    and no further round is held. It must be little: a shard keeps what all have said.
    """

    tell: Callable[[LinkedReadings, LinkingRules, Any], Any]
    together: Callable[[Sequence[Any]], Any]

    def of_all(self, said: Sequence[Any]) -> Any:
        """What the shards have said, as one; None if that is nothing."""
        told = [each for each in said if each is not None]
        return self.together(told) if told else None
