"""What is written beside a row of the batch: what to do, in which columns."""

from __future__ import annotations

from keymallet.core.vetting.vetting import CELLS, Vetted

JOINED = "; "


def remarks_by_line(vetted: Vetted) -> dict[int, list[str]]:
    """The remarks on the records that begin on each line, one after the other where several do.

    A remark names the columns it is about, then what is wrong; what cannot be told names what is missing. A
    row that is ready has an empty one.
    """
    said: list[list[str]] = [[] for _ in vetted.batch.lines]
    places = vetted.found_rows
    told = vetted.found.select(CELLS, "because", "missing", "title").iter_rows()
    for place, (cells, because, missing, title) in zip(places, told, strict=True):
        about = f"{' + '.join(cells)}: " if cells else ""
        why = because or f"not known, for want of {', '.join(missing or ())}"
        said[place].append(f"{about}{why} ({title})")
    remarks: dict[int, list[str]] = {}
    for line, own in zip(vetted.batch.lines, said, strict=True):
        remarks.setdefault(line, []).append(JOINED.join(own))
    for refusal in vetted.refused:
        if refusal.file == vetted.batch.file:
            remarks.setdefault(refusal.line, []).append(f"not read: {refusal.reason}")
    return remarks
