"""Writes the railway's estate: exports, hosts, maps, rulebook, and what has to be found in them."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from keymallet.demo import stories
from keymallet.demo.cloud import cloud_export
from keymallet.demo.exports import directory_exports, to_csv
from keymallet.demo.joiners import HEADER as JOINERS_HEADER
from keymallet.demo.joiners import joiners
from keymallet.demo.joiners import truth as joiners_truth
from keymallet.demo.model import Model, build
from keymallet.demo.people import staff_list
from keymallet.demo.truth import Turn, tell_truth
from keymallet.demo.weeks import LAST, instant_of, kept, take_back

_BROKEN_SHADOW = "oldtill:$6$\n"
REFUSED = {"directory": 2, "ticketing/tix-2": 1, "ticketing/tix-3": 1}
"""Records that cannot be read, by source: they are there so that one sees how that is told."""
_CLOUD = "exports/cloud.json"


def write_estate(folder: Path, week: int = LAST) -> None:
    """Write all files of the estate below `folder`, as they are in a week; what was written before goes."""
    model = in_week(week)
    texts = {name: files("keymallet.demo").joinpath(f"estate/{name}").read_text("utf-8") for name in _FILES}
    texts["rulebook.toml"] = stories.rulebook(texts["rulebook.toml"], week)
    texts["exemptions.toml"] = stories.register(
        texts["exemptions.toml"], week, stories.never_expires(model).login
    )
    for name, text in texts.items():
        _write(folder / name, text)
    exports = directory_exports(model.accounts, model.gates, model.openings, model.sign_ins)
    for name, text in exports.items():
        _write(folder / "exports" / name, text, "utf-8-sig")
    _write(folder / "exports/staff.jsonl", staff_list(model.staff))
    if week == stories.CLOUD_MISSING:
        (folder / _CLOUD).unlink(missing_ok=True)
    else:
        _write(folder / _CLOUD, cloud_export(model.users, instant_of(week)))
    batch = joiners(model)
    _write(folder / "joiners.csv", to_csv(JOINERS_HEADER, [row.cells() for row in batch], ";"), "utf-8-sig")
    _write(folder / "ground-truth-joiners.csv", to_csv(("line", "login", "rule"), joiners_truth(batch), ","))
    for host in model.hosts:
        for path, content in host.files().items():
            _write(folder / "hosts" / host.name / path, content)
    with (folder / "hosts/tix-2/etc/shadow").open("a", encoding="utf-8", newline="") as shadow:
        shadow.write(_BROKEN_SHADOW)
    _write_truth(folder, week)


def in_week(week: int) -> Model:
    """The railway as it is in a week."""
    model = build()
    stories.tell(model)
    if week == LAST:
        model.sign_ins = kept(model.sign_ins)
    else:
        take_back(model, week)
        stories.untell(model, week)
    return model


def _write_truth(folder: Path, week: int) -> None:
    truth = tell_truth()
    found = sorted((*finding, verdict) for finding, verdict in truth.told(week).items())
    _write(folder / "ground-truth.csv", to_csv(("rule", "account", "subject", "verdict"), found, ","))
    turns = [turn for later in range(2, week + 1) for turn in truth.turns(later)]
    lines = [(f"{instant_of(turn.week):%Y-%m-%d}", *turn[1:]) for turn in turns]
    _write(folder / "ground-truth-changes.csv", to_csv(("day", *Turn._fields[1:]), lines, ","))


_FILES = (
    "estate.toml",
    "directory.toml",
    "staff.toml",
    "cloud.toml",
    "rulebook.toml",
    "rulebook.cases.toml",
    "exemptions.toml",
    "exceptions.csv",
    "exceptions-map.toml",
    "joiners.toml",
)


def _write(path: Path, content: str | bytes, encoding: str = "utf-8") -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content if isinstance(content, bytes) else content.encode(encoding))
