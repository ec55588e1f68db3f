"""The files of a new estate: short, commented, to be read by whoever looks after them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

import tomlkit

from keymallet.fitting.map_text import one_line, shared_map
from keymallet.starting.grouping import Plan, Planned
from keymallet.starting.questions import Answers, Question

_REGISTER = """# Who is left out of which rules, why, approved by whom, until when. Empty so far. To add one:
# keymallet exempt add
"""


def map_file(source: Planned) -> str:
    """Where the map of a source's exports stands."""
    return f"maps/{source.name}.toml"


def estate_text(plan: Plan, answers: Answers) -> str:
    """The estate file: the organisation, its clock, its sources, and whose accounts are."""
    document = tomlkit.document()
    head = f"The estate of {one_line(str(answers[('organisation',)]))}. Paths are taken from this folder."
    document.add(tomlkit.comment(head))
    document.add(tomlkit.nl())
    document.add("organisation", tomlkit.item(answers[("organisation",)]))
    _say(document, "clock", answers[("clock",)], "shows instants, and reads dates that carry no zone")
    _say(document, "rulebook", "rulebook.toml", "the rules, and limits of your own")
    document.add("snapshots", tomlkit.item("snapshots"))
    _say(document, "register", "exemptions.toml", "who is left out of which rules, and why")
    _say(document, "logbook", "logbook", "every run, and what changed since the one before")
    sources = tomlkit.table(is_super_table=True)
    for source in plan.sources:
        sources.add(source.name, _section(source))
    document.add(tomlkit.nl())
    document.add("source", sources)
    tied = [source.name for source in plan.sources if source.tie_by_mail]
    if tied:
        ties = tomlkit.aot()
        ties.append(tomlkit.item({"sources": tied, "account": "mail", "person": "mail"}))
        document.add(tomlkit.nl())
        document.add(
            tomlkit.comment("Whose an account is: whoever has the same mail address on the staff list.")
        )
        document.add("tie", ties)
    return tomlkit.dumps(document)


def _say(document: tomlkit.TOMLDocument, name: str, value: Any, why: str) -> None:
    document.add(name, tomlkit.item(value))
    document[name].comment(why)


def _section(source: Planned) -> Any:
    section = tomlkit.table()
    section.add("read", source.read)
    if source.read == "host":
        section.add("folder", source.folder)
        section["folder"].comment("one folder for each host, with its etc/, var/ and homes in it")
    elif source.read == "ldif":
        section.add("files", tomlkit.item(source.files[""]))
    else:
        section.add("map", map_file(source))
        section["map"].comment("which column is which fact")
        files = tomlkit.inline_table()
        for table, paths in source.files.items():
            files.append(table, paths[0] if len(paths) == 1 else paths)
        section.add("files", files)
    if source.kinds:
        kinds = tomlkit.inline_table()
        for pattern, kind in source.kinds.items():
            kinds.append(pattern, kind)
        section.add("kinds", kinds)
        section["kinds"].comment("what an account is by its name; the first that fits counts")
    if source.persons:
        section.add("persons", source.persons)
        section["persons"].comment("the same login name there is the same person")
    return section


def map_of(source: Planned, *, today: date, clock: str) -> str:
    """The column map of a source's exports."""
    return shared_map(
        source.name, source.read, source.guesses, source.alike, source.absent_tables, today=today, clock=clock
    )


def register_text() -> str:
    """A register in which nobody stands yet."""
    return _REGISTER


def answers_text(asked: Sequence[Question], answers: Answers) -> str:
    """The answers as a file that answers the same questions again."""
    document = tomlkit.document()
    document.add(
        tomlkit.comment("What was answered: keymallet start --answers with this file answers it again.")
    )
    for question in asked:
        name, *rest = question.about
        if not rest:
            document.add(name, tomlkit.item(answers[question.about]))
            continue
        if name not in document:
            document.add(tomlkit.nl())
            document.add(name, tomlkit.table())
        document[name].add(rest[0], tomlkit.item(answers[question.about]))
    return tomlkit.dumps(document)
