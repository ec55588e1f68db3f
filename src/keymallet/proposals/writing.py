"""The changes of one system as files: in each form that can be written for it, with its way back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib import import_module
from types import ModuleType
from typing import Any

import polars as pl

from keymallet.core.facts.declaration import ACCOUNT
from keymallet.core.facts.evidence import ACCOUNT_ROW, Evidence
from keymallet.core.mending.changes import BY_HAND, FORM, LDIF, ROW, SCIM, SHELL, TABLE
from keymallet.core.mending.trial import for_people
from keymallet.proposals.change import Change

_MODULES = {LDIF: "ldif", SCIM: "scim", SHELL: "shell"}
BACK = ".back"


@dataclass(frozen=True)
class Written:
    """A file of changes: its name, how many and from which number on, how it is carried out, its bytes."""

    name: str
    number: int
    first: int
    how: str
    data: bytes


def written_out(
    stem: str, source: str, lines: pl.DataFrame, evidence: Evidence, heading: Sequence[str]
) -> list[Written]:
    """The files of a source's changes (lines of a worksheet), each with the one that undoes it after it."""
    files = []
    for (form,), mine in lines.partition_by(FORM, as_dict=True, maintain_order=True).items():
        if form in (None, BY_HAND):
            continue
        module = _module(str(form))
        changes = [_change(line, evidence, source) for line in mine.iter_rows(named=True)]
        host = source.rpartition("/")[2]
        more: dict[str, Any] = {"host": host} if form == SHELL else {}
        write: Callable[..., tuple[str, str]] = module.write
        forward, back = write(changes, heading, **more)
        name = f"{stem}.{module.ENDING}"
        undo = f"{stem}{BACK}.{module.ENDING}"
        first = changes[0].number
        how = module.HOW.format(file=name, host=host)
        files.append(Written(name, len(changes), first, how, forward.encode()))
        files.append(Written(undo, len(changes), first, "", back.encode()))
    return files


def _module(form: str) -> ModuleType:
    """What writes a form: some of them rest on packages that are there only where such systems are read."""
    return import_module(f"keymallet.proposals.{_MODULES[form]}")


def _change(line: Mapping[str, Any], evidence: Evidence, source: str) -> Change:
    facts = evidence.tables[line[TABLE]].row(line[ROW], named=True)
    accounts = evidence.tables[ACCOUNT.name]
    account = facts if line[TABLE] == ACCOUNT.name else accounts.row(facts[ACCOUNT_ROW], named=True)
    return Change(
        number=line["proposal"],
        mend=line["mend"],
        table=line[TABLE],
        facts=facts,
        account=account,
        supply=evidence.supply.get(source, {}).get(ACCOUNT.name, {}),
        told=for_people({**line, "change": line["what to do"]}),
        findings=line["findings"],
        answerer=line["answerer"] or "",
        due=line["due"] or "",
    )
