"""Filling in the templates that ship, or an organisation's own that lie over them."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from pathlib import Path
from traceback import extract_tb
from typing import Any
from zoneinfo import ZoneInfo

from keymallet.core.base.optional_packages import extra
from keymallet.core.base.printable import plain
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.reports.content import Content, day, due_in_words, moment, who
from keymallet.reports.registry import Look


def filled_in(template: str, told: Mapping[str, object], content: Content, look: Look) -> str:
    """A template with what it is told, in which `content` is always there.

    Raises KeymalletError if the package for templates is missing, or the template is broken.
    """
    jinja2: Any = extra("jinja2", "reports", "reports as pages and letters")
    own = look.templates
    environment = _environment(own, content.clock) if own else _shipped(content.clock)
    try:
        text: str = environment.get_template(template).render({"content": content, **told})
    except jinja2.TemplateError as error:
        raise _broken(error, template, there=not isinstance(error, jinja2.TemplateNotFound)) from None
    return text


@cache
def _shipped(clock: ZoneInfo) -> Any:
    """What fills in the templates that ship; kept, so that a thousand letters read theirs once."""
    return _environment(None, clock)


def _environment(folder: Path | None, clock: ZoneInfo) -> Any:
    """What fills templates in: those of the folder, if there is one, before those that ship."""
    jinja2: Any = extra("jinja2", "reports", "reports as pages and letters")
    loaders = [jinja2.FileSystemLoader(folder)] if folder else []
    loaders.append(jinja2.PackageLoader("keymallet.reports", "templates"))
    environment = jinja2.Environment(
        loader=jinja2.ChoiceLoader(loaders),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_safe,
    )
    environment.filters |= {
        "day": lambda value: day(value, clock),
        "moment": lambda value: moment(value, clock),
        "number": lambda value: f"{value:,}",
        "due": lambda row: due_in_words(row, clock),
        "who": who,
    }
    return environment


def _broken(error: Any, template: str, *, there: bool) -> KeymalletError:
    """What is wrong with a template, with the file and line it stands in."""
    file, line = getattr(error, "filename", None), getattr(error, "lineno", None)
    if line is None:
        frames = [
            each
            for each in extract_tb(error.__traceback__)
            if each.filename.endswith((".html", ".css", ".js"))
        ]
        file, line = (frames[-1].filename, frames[-1].lineno) if frames else (template, None)
    if not there:
        hint = "templates stand in the folder of --template, or ship"
        return fail(f'there is no template "{error.name}"', file=str(file), line=line or 0, hint=hint)
    hint = f"the {template} that ships shows what there is to fill in"
    return fail(f"this template is broken: {error.message}", file=str(file), line=line or 0, hint=hint)


def _safe(value: object) -> object:
    """Texts from outside without what steers a terminal or hides; what is markup already stays."""
    return plain(value) if isinstance(value, str) and not hasattr(value, "__html__") else value
