"""Which letters of a run were sent: each is claimed before it goes out, so that none goes out twice."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy import select

from keymallet.store.logbook.logbook import Logbook
from keymallet.store.logbook.records import instant_of, instant_text
from keymallet.store.logbook.tables import LETTER

SENDING = "sending"
"""What a letter is from when it was claimed until it is known what became of it."""
MAY_BE_TRIED = ("failed",)


@dataclass(frozen=True)
class LetterLine:
    """What is known of one letter: to whom, what became of it and when, and why if it was not taken."""

    mail: str
    fate: str
    at: datetime
    said: str


def known(logbook: Logbook, run: int) -> dict[str, LetterLine]:
    """The letters of a run, by what each is known by."""
    with logbook.reading() as connection:
        rows = connection.execute(select(LETTER).where(LETTER.c.run == run)).all()
    return {row.letter: LetterLine(row.mail, row.fate, instant_of(row.at), row.said) for row in rows}


def claim(logbook: Logbook, run: int, letter: str, mail: str, *, again: bool = False) -> LetterLine | None:
    """Take a letter on, so that nobody else sends it; None if it is ours to send now.

    Else what is known of it: it was sent, is being sent, or may have been. With `again` it is ours whatever
    became of it before.
    """
    with logbook.alone() as connection:
        mine = (LETTER.c.run == run) & (LETTER.c.letter == letter)
        row = connection.execute(select(LETTER).where(mine)).first()
        if row is not None and row.fate not in MAY_BE_TRIED and not again:
            return LetterLine(row.mail, row.fate, instant_of(row.at), row.said)
        values = {"mail": mail, "fate": SENDING, "at": instant_text(datetime.now(UTC)), "said": ""}
        if row is None:
            connection.execute(LETTER.insert().values(run=run, letter=letter, **values))
        else:
            connection.execute(LETTER.update().where(mine).values(**values))
    return None


def settle(logbook: Logbook, run: int, letter: str, fate: str, said: str) -> None:
    """Write down what became of a letter that was claimed."""
    with logbook.alone() as connection:
        mine = (LETTER.c.run == run) & (LETTER.c.letter == letter)
        values = {"fate": fate, "at": instant_text(datetime.now(UTC)), "said": said}
        connection.execute(LETTER.update().where(mine).values(**values))
