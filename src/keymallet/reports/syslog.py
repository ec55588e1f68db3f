"""A report as syslog messages (RFC 5424), a line each: one that says what it rests on, then one a finding."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import polars as pl

from keymallet.core.base.printable import plain
from keymallet.outputs.values import in_text
from keymallet.reports import rows
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Look

_LOG_AUDIT = 13
"""The facility (RFC 5424, section 6.2.1)."""
_SEVERITY = {"critical": 2, "high": 3, "medium": 4, "low": 5}
_NOTICE = 5
_OURS = "keymallet@32473"
"""The id of our structured data, with the enterprise number that is set aside for examples (RFC 5612)."""
_MARK = "\ufeff"
"""Before a text in UTF-8 stands the byte order mark (RFC 5424, section 6.4); ASCII needs none."""
_TOLD = (
    *("finding-id", "rule", "severity", "state", "account", "subject", "unit", "source"),
    *("first-seen", "due", "late-by-seconds", "answerer", "cause"),
)
"""What a message says in its structured data; what is not known is left out."""


def write(content: Content, look: Look) -> Iterator[bytes]:
    """The messages, each ended by a line feed."""
    return (f"{line}\n".encode() for line in messages(content))


def messages(content: Content) -> Iterator[str]:
    """Each message without its end. Every finding names the run it is of, by its head."""
    stands = [(what.replace(" ", "-").replace(",", ""), value) for what, value in basis(content)]
    stands += [("evidence-incomplete", gap) for gap in content.gaps]
    yield _header(_NOTICE, content, "run") + _data(stands) + " " + _text(content.verdict())
    for part in rows.tables(content):
        yield from _of_findings(content, part)


def _of_findings(content: Content, findings: pl.DataFrame) -> list[str]:
    told = rows.plainly(in_text(findings))
    data = [pl.format(' {}="{}"', pl.lit(name), _escaped(name)).fill_null("") for name in _TOLD]
    severity = pl.col("severity").replace_strict(_SEVERITY, return_dtype=pl.Int64)
    header = pl.format("<{}>{}", severity + _LOG_AUDIT * 8, pl.lit(_after_priority(content, "finding")))
    account = pl.coalesce("account", pl.lit("all accounts"))
    on = (
        pl.when(pl.col("subject").fill_null("") != "")
        .then(pl.format("{} [{}]", account, pl.col("subject").fill_null("")))
        .otherwise(account)
    )
    said = pl.format("{}: {}", on, pl.coalesce("title", "rule"))
    because = pl.col("because").fill_null("")
    said = pl.when(because != "").then(pl.format("{}: {}", said, because)).otherwise(said)
    mark = pl.when(said.str.contains(r"[^\x20-\x7e]")).then(pl.lit(_MARK)).otherwise(pl.lit(""))
    run = pl.lit(f'[{_OURS} head="{content.head}"')
    lines = told.select(pl.concat_str([header, run, *data, pl.lit("] "), mark, said]).alias("line"))
    return lines["line"].to_list()


def _header(severity: int, content: Content, kind: str) -> str:
    return f"<{severity + _LOG_AUDIT * 8}>{_after_priority(content, kind)}"


def _after_priority(content: Content, kind: str) -> str:
    """Version, time, host (that of the sender is for the receiver to say), application, process, kind."""
    at = f"{content.at:%Y-%m-%dT%H:%M:%S.%fZ}"
    return f"1 {at} - keymallet - {kind} "


def _data(pairs: Iterable[tuple[str, str]]) -> str:
    told = []
    for name, value in pairs:
        for mark in '\\"]':
            value = value.replace(mark, "\\" + mark)
        told.append(f' {name[:32]}="{plain(value)}"')
    return f"[{_OURS}{''.join(told)}]"


def _escaped(name: str) -> pl.Expr:
    """A value as structured data takes it: three characters have a backslash in front."""
    return pl.col(name).cast(pl.String).str.replace_all(r'([\\"\]])', r"\${1}")


def _text(said: str) -> str:
    said = plain(said)
    return said if said.isascii() else _MARK + said
