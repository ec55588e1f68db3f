"""A change with all that its form needs to be written, and the words that stand beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from keymallet.core.facts.tables.columns import AS_FOUND, STANDS_AT

Facts = Mapping[str, Any]


@dataclass(frozen=True)
class Change:
    """One change of a row: its number among all, what it does, the facts it is made to, and whose it is.

    `supply` says where the source tells each fact of accounts; `told` what to do, in words; `findings` are
    the ids of those that it ends, `answerer` and `due` whose they are and by when to be mended.
    """

    number: int
    mend: str
    table: str
    facts: Facts
    account: Facts
    supply: Mapping[str, str]
    told: str
    findings: str
    answerer: str
    due: str

    @property
    def place(self) -> str:
        """Where what is changed stands."""
        return str(self.facts.get(STANDS_AT.name) or "")

    @property
    def found(self) -> list[str]:
        """What stands there now."""
        return list(self.facts.get(AS_FOUND.name) or ())

    @property
    def remark(self) -> str:
        """What to do, for a comment in any form: one line of plain letters, whatever a name holds."""
        return one_line(f"{self.number}: {self.told}")

    @property
    def remark_of_findings(self) -> str:
        """The ids of the findings that it ends, who answers for them and by when, for a comment."""
        whose = f", {self.answerer} answers" if self.answerer else ""
        due = f", due {self.due}" if self.due else ""
        return one_line(f"finding {self.findings}{whose}{due}")


def one_line(text: str) -> str:
    """A text that no form takes for anything but the rest of a comment: what does not show is written out."""
    return "".join(sign if sign.isprintable() else ascii(sign)[1:-1] for sign in text)
