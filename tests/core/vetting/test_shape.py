"""How a planned account is written, against what its target wants; and who is what already."""

from __future__ import annotations

from typing import Any

import polars as pl
import pytest

from keymallet.core.facts.evidence import Evidence
from keymallet.core.vetting.batch import Batch, unique_names
from keymallet.core.vetting.existing import Existing
from keymallet.core.vetting.held_against import marks_of_names, marks_of_people, marks_of_places
from keymallet.core.vetting.shape import marks_of_shape
from keymallet.core.vetting.target import Gives, Target


def batch_of(rows: list[dict[str, Any]], target: Target | None = None) -> Batch:
    """A batch of these accounts, for the source `hall`."""
    names = pl.Series([row.get("name") for row in rows], dtype=pl.String)
    lines = list(range(2, len(rows) + 2))
    batch = Batch("b.csv", target or Target("hall"), written=names, lines=lines)
    frame = pl.DataFrame(rows, infer_schema_length=None)
    batch.tables["account"] = frame.with_columns(unique_names(names, lines).alias("name"))
    return batch


def told(rows: list[dict[str, Any]], target: Target) -> dict[str, list[Any]]:
    return {name: values.to_list() for name, values in marks_of_shape(batch_of(rows, target)).items()}


@pytest.mark.parametrize(
    ("text", "lost"),
    [
        ("J\u00f6rg M\u00fcller", False),
        ("\u00c5ngstr\u00f6m \u0141ukasz \u00c9ric \u674e", False),
        ("What? Who?", False),
        ("J\u00c3\u00b6rg", True),
        ("\u00c3\u0178", True),
        ("Ren\u00c3\u00a9", True),
        ("J\ufffdrg", True),
        ("J?rg", True),
        ("O\u00e2\u20ac\u2122Brien", True),
        ("J\u0094rg", True),
        ("\u00c3lvaro \u00c2ngela", False),
    ],
)
def test_letters_lost_to_an_encoding(text: str, lost: bool) -> None:
    """UTF-8 read as Latin-1 or Windows-1252, the replacement character, a question mark within a word."""
    for encoded in ("name", "display", "groups"):
        row: dict[str, Any] = {"name": "x"} | {encoded: [text] if encoded == "groups" else text}
        assert told([row], Target())["damaged"] == [[encoded] if lost else []]


def test_text_of_utf8_read_as_another_encoding_is_damaged() -> None:
    """By the codecs themselves: every letter of western and eastern Europe that is not ASCII."""
    letters = [chr(code) for code in range(0xC0, 0x180) if chr(code).isalpha()]
    for encoding in ("latin-1", "cp1252"):
        for letter in letters:
            read = f"x{letter}y".encode().decode(encoding, "replace")
            (found,) = told([{"name": "x", "display": read}], Target())["damaged"]
            # Of the second half of Latin, the first byte is another letter: those are told where a control stands.
            assert found or letter.encode()[0] not in (0xC3, 0xC2), (letter, read)


def test_what_the_target_requires_and_takes() -> None:
    """Blank is missing, an empty list too; a name always has to be there; length counts characters; in order by bytes."""
    target = Target(
        required=("mail", "groups"), longest={"name": 4}, characters={"name": "[a-z]+"}, name_pattern="[a-z]{2}",
        ordered_by="name",
    )  # fmt: skip
    rows = [
        {"name": "ab", "mail": "m", "groups": ["g"]},
        {"name": "\u00e4\u00f6\u00fc\u00e4", "mail": " ", "groups": []},
        {"name": "abcde", "mail": None, "groups": None},
        {"name": None, "mail": "m", "groups": ["g"]},
    ]
    found = told(rows, target)
    assert found["missing"] == [[], ["mail", "groups"], ["mail", "groups"], ["name"]]
    assert found["not-taken"] == [
        [],
        ["name: other characters than [a-z]+"],
        ["name: longer than 4 characters"],
        [],
    ]
    assert found["name-fits"] == [True, False, False, None]
    assert found["in-order"] == [True, True, False, True]


def test_a_pattern_has_to_match_the_whole_name() -> None:
    """A part is not enough, and an alternative is bound to both ends."""
    target = Target(name_pattern="ab|cd")
    rows = [{"name": name} for name in ("ab", "cd", "abc", "xcd", "ab\n")]
    assert told(rows, target)["name-fits"] == [True, True, False, False, False]


def test_what_accounts_of_a_sort_get() -> None:
    """Every part that fits counts; one that allows more allows it; where none fits nothing is said."""
    target = Target(
        gives=(
            Gives(units=("Q*",), groups=("all", "quay")),
            Gives(kinds=("guest",), groups=("guests",), more=True),
            Gives(titles=("Pilot",), entitlements=()),
        )
    )
    rows: list[dict[str, Any]] = [
        {
            "name": "a",
            "unit": "Quay",
            "kind": "person",
            "groups": ["all", "x"],
            "title": "Pilot",
            "entitlements": ["m"],
        },
        {
            "name": "b",
            "unit": "Quay",
            "kind": "guest",
            "groups": ["all", "quay", "y"],
            "title": None,
            "entitlements": [],
        },
        {"name": "c", "unit": None, "kind": "person", "groups": ["z"], "title": "", "entitlements": None},
    ]
    found = told(rows, target)
    assert found["groups-missing"] == [["quay"], ["guests"], None]
    assert found["groups-surplus"] == [["x"], None, None]
    assert found["entitlements-missing"] == [[], None, None]
    assert found["entitlements-surplus"] == [["m"], None, None]


HALL = pl.DataFrame(
    {
        "account": ["hall/A.Bell", "hall/c.dow", "gate/a.bell"],
        "source": ["hall", "hall", "gate"],
        "name": ["A.Bell", "c.dow", "a.bell"],
        "mail": ["A@x.example", None, "a@x.example"],
        "stable-id": ["7", "8", "7"],
        "person": ["1", "2", "1"],
        "unit": ["Quay", None, None],
        "groups": [["crew"], [], ["gatekeepers"]],
    },
    schema_overrides={"groups": pl.List(pl.String)},
)


def existing(names_before: set[str] | None = None) -> Existing:
    supply = {source: {"account": dict.fromkeys(HALL.columns, "x")} for source in ("hall", "gate")}
    people = pl.DataFrame({"person": ["1", "9"], "name": ["Ann Bell", "Zed"], "mail": ["a@x.example", "z@x.example"],
                           "unit": ["Quay", "Mole"], "from-source": ["staff", "staff"]})  # fmt: skip
    return Existing(Evidence({"account": HALL, "person": people}, supply, {}), names_before or set())


def test_who_is_what_already() -> None:
    """In any case of letters; names of the target alone, addresses of others in any source, ids of the target."""
    rows = [
        {"name": "a.bell ", "mail": "z@x.example", "stable-id": "9", "person": None},
        {"name": "C.Dow", "mail": "a@X.example", "stable-id": "8", "person": "1"},
        {"name": "c.dow", "mail": "a@x.example", "stable-id": "8", "person": "3"},
        {"name": "gone", "mail": None, "stable-id": None, "person": "2"},
        {"name": None, "mail": None, "stable-id": None, "person": "2"},
    ]
    marks = {
        name: each.to_list()
        for name, each in marks_of_names(batch_of(rows), existing({"Gone", "c.dow"})).items()
    }
    assert marks["name-taken-by"] == [["hall/A.Bell"], ["hall/c.dow"], ["hall/c.dow"], [], []]
    assert marks["name-again"] == [0, 1, 1, 0, 0]
    assert marks["name-used-before"] == [False, False, False, True, False]
    assert marks["mail-taken-by"] == [[], [], ["gate/a.bell", "hall/A.Bell"], [], []]
    assert marks["id-taken-by"] == [[], ["hall/c.dow"], ["hall/c.dow"], [], []]
    assert marks["id-again"] == [0, 1, 1, 0, 0]
    persons = pl.Series([row["person"] for row in rows], dtype=pl.String)
    of_people = marks_of_people(batch_of(rows), existing(), persons)
    assert of_people["person-again"].to_list() == [0, 0, 0, 1, 1]
    assert of_people["person-has"].to_list() == [[], ["hall/A.Bell"], [], ["hall/c.dow"], ["hall/c.dow"]]


def test_units_managers_and_groups_that_are_those_of_anybody() -> None:
    """A manager may stand in another source, on the staff list or in the batch; groups are those of the target."""
    rows = [
        {"name": "x", "unit": "quay", "manager": "hall/c.dow", "groups": ["crew", "gatekeepers"]},
        {"name": "y", "unit": "Mole", "manager": "Zed", "groups": []},
        {"name": "z", "unit": "Nowhere", "manager": "Y", "groups": None},
        {"name": "w", "unit": None, "manager": "nobody", "groups": ["crew"]},
    ]
    marks = {name: each.to_list() for name, each in marks_of_places(batch_of(rows), existing()).items()}
    assert marks["unit-known"] == [True, True, False, None]
    assert marks["manager-known"] == [True, True, True, False]
    assert marks["groups-unknown"] == [["gatekeepers"], [], [], []]


def test_rows_are_told_apart_whatever_they_are_called() -> None:
    """Names twice, names that read like the ones made up, none at all, several records on one line."""
    written = pl.Series(["a", "a", "a (line 2)", None, None, "line 1", "a (line 2) #2"], dtype=pl.String)
    names = unique_names(written, [1, 2, 2, 1, 1, 1, 3])
    assert names.n_unique() == len(names) and names[0] == "a"


def test_groups_that_bring_privilege() -> None:
    """Held by way of them, on a path of them, or by all their members; one member alone tells nothing."""
    held = pl.DataFrame({"account-row": [0, 1, 2], "privileged": [True, True, True],
                         "via": ["group masters in barons", "direct", None], "from-source": ["hall"] * 3},
                        schema_overrides={"account-row": pl.UInt32})  # fmt: skip
    accounts = HALL.with_columns(
        groups=pl.Series([["crew", "all"], ["crew"], ["all"]], dtype=pl.List(pl.String))
    )
    there = existing()
    supply = {
        **there.evidence.supply,
        "hall": {**there.evidence.supply["hall"], "grant": {"privileged": "x"}},
    }
    evidence = Evidence({**there.evidence.tables, "account": accounts, "grant": held}, supply, {})
    rows: list[dict[str, Any]] = [
        {"name": "x", "groups": ["all", "crew", "masters"]},
        {"name": "y", "groups": ["barons"]},
    ]
    marks = marks_of_places(batch_of(rows), Existing(evidence))
    assert marks["groups-of-power"].to_list() == [["crew", "masters"], ["barons"]]
