"""What is written beside a row of the batch: what to do, in which columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.loaded import Arrival, Arrived
from keymallet.core.vetting.vetting import CELLS, Vetted

JOINED = "; "


def remarks_by_line(vetted: Vetted) -> dict[int, list[str]]:
    """The remarks on the records that begin on each line, one after the other where several do.

    A remark names the columns it is about, then what is wrong; what cannot be told names what is missing. A
    row that is ready has an empty one.
    """
    said: list[list[str]] = [[] for _ in vetted.batch.lines]
    unknown: list[dict[str, None]] = [{} for _ in vetted.batch.lines]
    told = vetted.found.select(CELLS, "because", "missing", "title").iter_rows()
    for place, (cells, because, missing, title) in zip(vetted.found_rows, told, strict=True):
        if because:
            about = f"{' + '.join(cells)}: " if cells else ""
            said[place].append(f"{about}{because} ({title})")
        else:
            unknown[place] |= dict.fromkeys(facts_named(missing or (), vetted.batch))
    for own, facts in zip(said, unknown, strict=True):
        if facts:
            own.append(f"not known, and rules rest on it: {', '.join(facts)}")
    remarks: dict[int, list[str]] = {}
    for line, own in zip(vetted.batch.lines, said, strict=True):
        remarks.setdefault(line, []).append(JOINED.join(own))
    rows = set(vetted.batch.lines)
    for refusal in (*vetted.refused, *vetted.batch.unreadable):
        if refusal.file != vetted.batch.file:
            continue
        column = f"{refusal.column}: " if refusal.column else ""
        said_of = f"{column}not read: {refusal.reason}"
        if refusal.line in rows:
            remarks[refusal.line][0] = JOINED.join(filter(None, (remarks[refusal.line][0], said_of)))
        else:
            remarks.setdefault(refusal.line, []).append(said_of)
    return remarks


def facts_named(missing: Iterable[str], batch: Batch) -> Iterator[str]:
    """Facts that are missing, as the file calls them; where it has no column of them by their own name."""
    for each in missing:
        fact = each.partition(" (")[0]
        name = fact if fact.startswith(("planned.", "person.", "setting.")) else fact.removeprefix("account.")
        yield batch.told_by.get(f"account.{name}", batch.told_by.get(name, name))


def arrivals_by_line(arrived: Arrived, batch: Batch) -> dict[int, list[str]]:
    """What to load again, by line, with a remark on why: what is missing, and what differs in what."""
    remarks: dict[int, list[str]] = {}
    said: dict[int, list[str]] = {}
    for row in arrived.rows.iter_rows(named=True):
        if row["line"] is None or row["result"] == Arrival.AS_ASKED.words:
            continue
        mine = said.setdefault(row["line"], [])
        if row["fact"] is None:
            mine.append(row["result"])
        else:
            found = "not known" if row["found"] is None else row["found"]
            mine.append(f"{' + '.join(row['cells']) or row['fact']}: asked {row['asked']}, found {found}")
    for line, own in said.items():
        remarks[line] = [JOINED.join(own)]
    for refusal in batch.refused:
        if refusal.file == batch.file:
            remarks.setdefault(refusal.line, []).append(f"not read: {refusal.reason}")
    return remarks
