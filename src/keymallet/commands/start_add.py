"""Add a service to an estate: ask it what it is and what the reader may see, and write its section."""

from __future__ import annotations

import argparse
import shlex
import tempfile
import tomllib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from msgspec import convert

from keymallet.commands.asking import answers_to
from keymallet.commands.exit_codes import CLEAN
from keymallet.commands.locking import alone_with
from keymallet.commands.writing import write_file
from keymallet.core.base.problems import KeymalletError, Problem, fail
from keymallet.core.facts.reading import Reading
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.outputs.new_rulebook import new_rulebook
from keymallet.sources.estate import Source, read_estate
from keymallet.sources.reading import ask_source, reader_of, secrets_kept
from keymallet.sources.request import Request, config_text
from keymallet.sources.rulebooks import open_included, shipped_text
from keymallet.sources.sections import READERS
from keymallet.sources.shared.secret import is_loopback, read_secret
from keymallet.starting.grouping import Plan
from keymallet.starting.questions import Answers, whose
from keymallet.starting.services import (
    LDAP,
    SCIM,
    kind_of,
    section_of,
    section_text,
    service_questions,
    without_base,
)
from keymallet.starting.texts import estate_text, register_text
from keymallet.views.start import show_service
from keymallet.views.terminal import console, show_hints, text

_BASE = "base"
_PATIENCE = 10


def run(options: argparse.Namespace) -> int:
    """Ask the service, ask the person, look once with the reader's eyes, write. Nothing is written over."""
    if not options.url:
        hint = "keymallet start add ldaps://host; a folder of that name: keymallet start ./add"
        raise fail("the address of the service is missing", hint=hint)
    kind, estate, out = kind_of(options.url), Path(options.estate), console()
    options.url, base = without_base(kind, options.url)
    before = config_text(estate, str(estate)) if estate.exists() else None
    if before is not None:
        read_estate(estate)
    taken = tomllib.loads(before).get("source", {}) if before else {}
    with _request(estate, options) as request:
        told = _about(kind, options, request)
        contexts = (base,) if base else told.get("contexts", ())
        asked = service_questions(kind, options.url, taken, contexts)
        if before is None:
            asked = [*whose(estate.resolve().parent), *asked]
        by_default: Answers = {question.about: question.default for question in asked}
        answers = by_default if options.look else answers_to(out, options, asked)
        name = str(answers[("service", "name")])
        section = section_of(
            kind, options.url, answers,
            start_tls=bool(told.get("start-tls")), ca_file=options.ca_file or "",
        )  # fmt: skip
        readings, why_not = _sampled(name, kind, section, request)
    show_service(out, options.url, told.get("called", ""), readings, why_not)
    if options.look:
        out.print()
        for line in section_text(name, section).strip().splitlines():
            out.print(text(line), soft_wrap=True)
        return CLEAN
    busy, cannot = "somebody else is changing the estate file", "nothing can be written here"
    with alone_with(estate, patience=_PATIENCE, busy=busy, hint="try again", cannot=cannot):
        _write(estate, before, answers, name, section)
    out.print()
    out.print(text(f"[source.{name}] is written in {estate}", "bold"))
    named = [] if options.estate == "estate.toml" else ["--estate", options.estate]
    only = [] if before is None else ["--only", name]
    hints = [(shlex.join(["keymallet", "read", *only, *named]), "read it")]
    show_hints(out, [*hints, (shlex.join(["keymallet", "judge", *named]), "judge it")])
    return CLEAN


@contextmanager
def _request(estate: Path, options: argparse.Namespace) -> Iterator[Request]:
    with ThreadPoolExecutor(max_workers=2) as workers:
        yield Request("service", estate.parent, ZoneInfo("UTC"), datetime.now(UTC), workers)


def _about(kind: str, options: argparse.Namespace, request: Request) -> dict[str, Any]:
    """What a directory tells of itself: where its entries are, and how it can be spoken to in secret."""
    if kind != LDAP:
        return {}
    section: dict[str, Any] = {"read": kind, "url": options.url, "base": "", "sign-in": "anonymous"}
    if options.ca_file:
        section["ca-file"] = options.ca_file
    source = _source("service", kind, section)
    with secrets_kept(request):
        told = reader_of(source).about(source.section, request)
    parts = urlsplit(options.url)
    clear = parts.scheme == "ldap" and not is_loopback(parts.hostname or "")
    return {"contexts": told.contexts, "start-tls": clear and told.start_tls, "called": told.called}


def _source(name: str, kind: str, section: dict[str, Any]) -> Source:
    reader = READERS[kind]
    return Source(name, convert(section, reader.section), reader, None)


def _sampled(name: str, kind: str, section: dict[str, Any], request: Request) -> tuple[list[Reading], str]:
    """What the reader may see of the first entries; or why that was not tried. Raises KeymalletError."""
    source = _source(name, kind, section)
    pointer = section.get("password-from") or section.get("token-from")
    try:
        if pointer:
            read_secret(pointer, request.folder, "secret-from")
    except KeymalletError as error:
        if kind == SCIM:
            reader_of(source).knock(source.section, request)
        return [], error.problems[0].message.partition(": ")[2]
    return ask_source(source, request, reader_of(source).sample), ""


def _write(estate: Path, before: str | None, answers: Answers, name: str, section: dict[str, Any]) -> None:
    """Write the estate with one more section; of a new estate, its rulebook and register first."""
    now = config_text(estate, str(estate)) if estate.exists() else None
    if now != before:
        raise fail("the estate file was changed meanwhile", file=str(estate), hint="look at it, try again")
    added = section_text(name, section)
    if before is not None:
        _write_checked(estate, f"{before.rstrip()}\n\n{added}")
        return
    book = read_rulebook(shipped_text(_BASE), _BASE, open_included)
    beside = {"rulebook.toml": new_rulebook(_BASE, book), "exemptions.toml": register_text()}
    there = [each for each in beside if (estate.parent / each).exists()]
    if there:
        hint = "move them away, or write an estate file that names them"
        raise fail(
            f"already there, and not written over: {', '.join(there)}", file=str(estate.parent), hint=hint
        )
    written: list[Path] = []
    try:
        for each, content in beside.items():
            written.append(estate.parent / each)
            write_file(estate.parent / each, content.encode())
        _write_checked(estate, f"{estate_text(Plan(), answers).rstrip()}\n\n{added}")
    except BaseException:
        for path in written:
            path.unlink(missing_ok=True)
        raise


def _write_checked(estate: Path, content: str) -> None:
    """Write an estate file that can be read; the one that was there stays where it could not."""
    try:
        with tempfile.NamedTemporaryFile("w", encoding="utf-8", dir=estate.parent, suffix=".toml") as trial:
            trial.write(content)
            trial.flush()
            read_estate(Path(trial.name))
    except OSError as error:
        raise fail(f"the file cannot be written: {error.strerror or error}", file=str(estate)) from None
    except KeymalletError as error:
        hint = "its sources have to be tables of their own: [source.some-name]"
        said = f"with this section it could not be read: {error.problems[0].message}"
        raise KeymalletError(Problem(said, hint=hint)) from None
    write_file(estate, content.encode())
