"""Calls that take no longer than they may, whatever the other side does."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TypeVar

Answer = TypeVar("Answer")


def within(seconds: float, call: Callable[[], Answer], late: Callable[[], BaseException]) -> Answer:
    """What the call gives, within so many seconds; else what `late` makes is raised.

    A time limit of a socket holds for each piece of an answer: a server that sends a byte now and then would
    never come to it. The thread that still waits then is let go, and keeps nobody from ending.
    """
    outcome: list[Answer] = []
    fault: list[BaseException] = []

    def run() -> None:
        try:
            outcome.append(call())
        except BaseException as error:
            fault.append(error)

    thread = threading.Thread(target=run, daemon=True, name="answer")
    thread.start()
    thread.join(seconds)
    if fault:
        raise fault[0]
    if not outcome:
        raise late()
    return outcome[0]
