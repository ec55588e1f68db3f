"""What became of a batch that was loaded, for people."""

from __future__ import annotations

from itertools import groupby

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from keymallet.core.base.listing import and_more, how_many, shortened, some_names
from keymallet.core.vetting.batch import Batch
from keymallet.core.vetting.loaded import Arrival, Arrived
from keymallet.views.terminal import text
from keymallet.views.vet import LONGEST_NAME

_STYLES = {
    Arrival.AS_ASKED: "green",
    Arrival.DIFFERS: "yellow",
    Arrival.MISSING: "red",
    Arrival.NOT_ASKED_FOR: "magenta",
    Arrival.NOT_KNOWN: "yellow",
}
_BY_WORDS = {arrival.words: arrival for arrival in Arrival}


def show_arrivals(out: Console, arrived: Arrived, batch: Batch, most: int) -> None:
    """Print how many rows came to what, and `most` of those that did not arrive as asked, one by one."""
    line = Text("  ")
    for arrival, style in _STYLES.items():
        number = arrived.number(arrival)
        if number or arrival is not Arrival.NOT_KNOWN:
            line.append(" · " if len(line) > 2 else "", "dim")
            line.append(f"{number:,} {arrival.words}", style if number else "dim")
    out.print(line)
    told = arrived.rows.filter(arrived.rows["result"] != Arrival.AS_ASKED.words).iter_rows(named=True)
    by_row = [
        list(rows) for _, rows in groupby(told, key=lambda row: (row["line"], row["name"], row["result"]))
    ]
    by_row.sort(key=lambda rows: _ORDER.index(_BY_WORDS[rows[0]["result"]]))
    if by_row:
        out.print()
    for rows in by_row[:most]:
        first = rows[0]
        arrival = _BY_WORDS[first["result"]]
        head = Text().append_text(text(f"line {first['line']}  " if first["line"] else "", "dim"))
        head.append_text(text(shortened(first["name"] or "no login name", LONGEST_NAME), "bold")).append("  ")
        out.print(head.append(arrival.words, _STYLES[arrival]))
        for row in rows:
            if row["fact"]:
                out.print(Padding(_difference(row), (0, 0, 0, 4), expand=False))
    if len(by_row) > most:
        out.print(text(f"{and_more(len(by_row) - most, 'row')} not as asked: --all shows them", "dim"))
    for refusal in batch.refused[:5]:
        out.print(text(f"  {refusal.file} line {refusal.lines}: not read: {refusal.reason}", "yellow"))
    if len(batch.refused) > 5:
        out.print(text(f"  {and_more(len(batch.refused) - 5, 'record')} not read", "yellow"))
    if arrived.not_held:
        facts = how_many(len(arrived.not_held), "fact")
        said = f"not held against it: {facts} that {batch.target.source} does not tell"
        out.print(
            Padding(text(f"{said}: {some_names(arrived.not_held, 6)}", "dim"), (0, 0, 0, 2), expand=False)
        )


_ORDER = (
    Arrival.MISSING,
    Arrival.DIFFERS,
    Arrival.NOT_ASKED_FOR,
    Arrival.NOT_KNOWN,
    Arrival.AS_ASKED,
)


def _difference(row: dict[str, object]) -> Text:
    cells = row["cells"]
    named = " + ".join(cells) if isinstance(cells, list) and cells else str(row["fact"])
    found = "not known" if row["found"] is None else row["found"]
    said = text(f"asked {row['asked']}, found {found}")
    return Text().append_text(text(f"{named}: ", "bold")).append_text(said)
