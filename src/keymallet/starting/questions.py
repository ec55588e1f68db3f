"""What a folder cannot tell: at most six questions, each with a default, asked one at a time."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from zoneinfo import available_timezones

import msgspec

from keymallet.core.base.nearest import did_you_mean
from keymallet.core.base.secrecy import may_be_secret
from keymallet.core.base.toml_text import TomlDocument
from keymallet.core.language.clocks import is_zone
from keymallet.fitting.absent import FACTS, untold
from keymallet.fitting.matching import SURE, Match, Part
from keymallet.fitting.sample import SampledColumn
from keymallet.fitting.shapes import Shape
from keymallet.fitting.vocabulary import names_a_secret
from keymallet.starting.grouping import Plan, Planned, attach, counted_as

MOST_QUESTIONS = 6
_LOGINS_OFFERED = 6
NONE = "none"
KINDS_ASKED = "On hosts and in directories, whose are accounts that are not the system's own?"
KINDS_MEANT = {
    "people": "of people; called svc-*, srv-* or service-*, of services",
    "unknown": "nobody can tell by the name: leave it open",
}
KINDS = {"svc-*": "service", "srv-*": "service", "service-*": "service", "*": "person"}
"""What an account is by the pattern of its name, where they are of people."""


@dataclass(frozen=True)
class Question:
    """One question. `about` is what its answer is kept under in a file of answers: one word, or two.

    `choices` are what can be chosen, with what each means; several can be where `several`. `check` gives what
    is wrong with an answer, or nothing.
    """

    about: tuple[str, ...]
    text: str
    default: str | list[str]
    choices: dict[str, str] | None = None
    several: bool = False
    example: str = ""
    check: Callable[[str], str] = lambda answer: ""


Answers = dict[tuple[str, ...], str | list[str]]
Ask = Callable[[Question], str | list[str]]


class AnswersText(msgspec.Struct, rename="kebab", frozen=True):
    """A file of answers as it stands."""

    organisation: str | None = None
    clock: str | None = None
    kinds: str | None = None
    login: dict[str, str] = {}
    of: dict[str, str] = {}
    absent: dict[str, list[str]] = {}
    service: dict[str, str] = {}


def questions(plan: Plan, folder: Path) -> list[Question]:
    """All that has to be asked, the most telling first."""
    asked = whose(folder)
    asked += [question for source in plan.sources for question in _logins(source)]
    asked += [_home(plan, path) for path in plan.homeless]
    if any(source.read in ("host", "ldif") for source in plan.sources):
        asked.append(Question(("kinds",), KINDS_ASKED, "people", dict(KINDS_MEANT)))
    asked += [question for source in plan.sources for question in _without(source)]
    return asked[:MOST_QUESTIONS]


def whose(folder: Path) -> list[Question]:
    """Whose estate it is, and by which clock."""
    called = folder.resolve().name.replace("-", " ").replace("_", " ").strip().title() or "Our organisation"
    return [
        Question(("organisation",), "What is the organisation called?", called, check=_name_fault),
        Question(
            ("clock",),
            "In which time zone do its people work?",
            _local_zone(),
            example="Europe/Zurich",
            check=_zone_fault,
        ),
    ]


def _name_fault(answer: str) -> str:
    return "" if answer.strip() and answer.isprintable() else "this is no name"


def _zone_fault(answer: str) -> str:
    if is_zone(answer):
        return ""
    hint = did_you_mean(answer, available_timezones()) or "it is written like Europe/Zurich or UTC"
    return f'"{answer}" is no time zone; {hint}'


def _logins(source: Planned) -> list[Question]:
    """Which column people sign in with, where that is not sure."""
    part = source.account_part
    match = next((match for match in part.matches if match.fact.name == "name"), None) if part else None
    if match is None or match.sureness == SURE:
        return []
    file = source.files["account"][0]
    columns = [match.column, *source.guesses[0].export.sample.columns]
    offered = {
        column.header: ", ".join(list(column.values)[:2])
        for column in columns
        if column is match.column or Shape(column).mails > 0.9 or _may_be_login(column)
    }
    choices = dict(list(offered.items())[:_LOGINS_OFFERED])
    text = f"In {file}, with which column do people sign in?"
    return [Question(("login", file), text, match.column.header, choices)] if len(choices) > 1 else []


def _may_be_login(column: SampledColumn) -> bool:
    """Whether people may sign in with this: never what they prove themselves with, which nobody is shown."""
    secret = names_a_secret(column.header) or any(may_be_secret(value) for value in column.values)
    return Shape(column).may_be_login and not secret


def _home(plan: Plan, path: str) -> Question:
    """Which system a table without accounts is of."""
    what = counted_as(plan.homeless[path].parts[0].table.name)
    choices = {
        source.name: ", ".join(source.files["account"]) for source in plan.sources if source.account_part
    }
    return Question(
        ("of", path), f"Of which system does {path} tell the {what}?", NONE, choices | {NONE: "leave it out"}
    )


def _without(source: Planned) -> list[Question]:
    """What the system has none of at all: an export that does not tell of it says nothing on that."""
    part = source.account_part
    if part is None:
        return []
    told = {match.fact.name for match in part.matches if part.uses(match)} | source.files.keys()
    lacking = untold(told)
    if not lacking:
        return []
    files = ", ".join(source.files["account"])
    text = f"{source.name} ({files}) tells nothing of these. Which does that system not have at all?"
    return [Question(("absent", source.name), text, [], lacking, several=True)]


def apply(plan: Plan, answers: Answers) -> None:
    """Let the plan be as the answers say."""
    for source in plan.sources:
        if source.read in ("host", "ldif") and answers.get(("kinds",)) == "people":
            source.kinds = dict(KINDS)
        part = source.account_part
        if part is None:
            continue
        login = answers.get(("login", source.files["account"][0]))
        if isinstance(login, str):
            _sign_in_with(source, part, login)
        absent = answers.get(("absent", source.name), [])
        assert isinstance(absent, list)
        part.absent = tuple(name for name in absent if name in FACTS)
        source.absent_tables = [name for name in absent if name not in FACTS]

    for path, guess in plan.homeless.items():
        home = next(
            (source for source in plan.sources if source.name == answers.get(("of", path), NONE)), None
        )
        if home is not None:
            attach(home, path, guess)
        else:
            plan.left_out[path] = "nobody has said of which system it tells"


def _sign_in_with(source: Planned, part: Part, header: str) -> None:
    """Take this column as the login name, as somebody said."""
    name = next(match for match in part.matches if match.fact.name == "name")
    columns = source.guesses[0].export.sample.columns
    column = next((column for column in columns if column.header == header), name.column)
    others = [match for match in part.matches if match is not name and match.column.header != header]
    kept = [match for match in part.matches if match.column.header == header and match.fact.name == "mail"]
    part.matches[:] = [Match(name.fact, column, name.fit, 1.0, asked=True), *kept, *others]
    name.fit.remark = ""
    for guess in source.guesses:
        guess.unused.pop(header, None)


def read_answers(text: str, file: str, asked: Sequence[Question]) -> Answers:
    """The answers that a file gives. Raises KeymalletError for one that fits no question, or is none."""
    document = TomlDocument(text, file)
    written = document.read(AnswersText, document.data)
    document.raise_problems()
    assert written is not None
    given: dict[tuple[str, ...], Any] = {
        ("organisation",): written.organisation,
        ("clock",): written.clock,
        ("kinds",): written.kinds,
        **{("login", name): column for name, column in written.login.items()},
        **{("of", name): source for name, source in written.of.items()},
        **{("absent", name): list(facts) for name, facts in written.absent.items()},
        **{("service", name): answer for name, answer in written.service.items()},
    }
    answers: Answers = {about: answer for about, answer in given.items() if answer is not None}
    known = {question.about: question for question in asked}
    for about, answer in answers.items():
        if about not in known:
            names = [" ".join(other) for other in known]
            hint = did_you_mean(" ".join(about), names) or f"asked are: {', '.join(names)}"
            document.fault(about, f'nothing like "{" ".join(about)}" is asked here', hint)
        elif wrong := fault_of(known[about], answer):
            document.fault(about, wrong)
    document.raise_problems()
    return answers


def fault_of(question: Question, answer: str | list[str]) -> str:
    """What is wrong with an answer; nothing, where it is one."""
    for word in [answer] if isinstance(answer, str) else answer:
        if question.choices is not None and word not in question.choices:
            hint = did_you_mean(word, question.choices) or f"there are: {', '.join(question.choices)}"
            return f'"{word}" is none of the choices; {hint}'
        if wrong := question.check(word):
            return wrong
    return ""


def _local_zone() -> str:
    """The zone that this computer's clock is in, if it says so."""
    told = os.environ.get("TZ", "")
    if is_zone(told):
        return told
    link = Path("/etc/localtime")
    name = str(link.resolve()).partition("zoneinfo/")[2] if link.exists() else ""
    return name if is_zone(name) else "UTC"
