"""Asking what only a person can tell: one question at a time, or from a file, or by the defaults."""

from __future__ import annotations

import argparse
import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from rich.console import Console

from keymallet.core.base.problems import fail
from keymallet.sources.request import config_text
from keymallet.starting.questions import Answers, Question, fault_of, read_answers
from keymallet.views.start import show_question


def answers_to(out: Console, options: argparse.Namespace, asked: Sequence[Question]) -> Answers:
    """What is told on the command line, in a file, or by whoever sits there. Raises KeymalletError."""
    if options.yes:
        return {question.about: question.default for question in asked}
    given: Answers = {}
    if options.answers:
        given = read_answers(config_text(Path(options.answers), options.answers), options.answers, asked)
    open_ = [question for question in asked if question.about not in given]
    if open_ and not sys.stdin.isatty():
        if options.answers:
            return {question.about: given.get(question.about, question.default) for question in asked}
        hint = "--yes takes the defaults, --answers FILE gives the answers"
        raise fail(f"{len(open_)} questions are open, and nobody is there to answer", hint=hint)
    # Polars has a handler of its own, under which an interrupt would wait for the next line that is typed.
    signal.siginterrupt(signal.SIGINT, True)
    for number, question in enumerate(open_, start=1):
        given[question.about] = _ask(out, question, number, len(open_))
    return given


def _ask(out: Console, question: Question, number: int, of: int) -> str | list[str]:
    """Ask until there is an answer; an empty one is the default."""
    complaint = ""
    while True:
        show_question(out, question, number, of, complaint)
        try:
            written = input("> ").strip()
        except EOFError:
            raise fail("the answers ended before the questions", hint="nothing was written") from None
        if not written:
            return question.default
        answer = _meant(question, written)
        complaint = fault_of(question, answer)
        if not complaint:
            return answer


def _meant(question: Question, written: str) -> str | list[str]:
    """An answer as written, with choices named by their number or their name."""
    choices = list(question.choices or {})
    words = written.replace(",", " ").split() if question.several else [written]
    if question.several and words in (["all"], ["none"]):
        return choices if words == ["all"] else []
    meant = [
        choices[int(word) - 1] if word.isdecimal() and 0 < int(word) <= len(choices) else word
        for word in words
    ]
    return meant if question.several else meant[0]
