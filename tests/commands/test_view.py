"""keymallet view: every topic on the railway's estate, in every form, and what it refuses."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest

from keymallet.core.rulebook.model import TOPICS as NAMES
from keymallet.core.topics.registry import TOPICS
from tests.conftest import RAILWAY_AT
from tests.support import newest, run, write

AT = ("--at", RAILWAY_AT)


@pytest.mark.parametrize("topic", TOPICS)
def test_every_topic_reads_well(railway_snapshot: Path, topic: str) -> None:
    """Within 100 columns, without colour, with the next command; it ends with code 0."""
    told = run("view", "--all", topic, *AT, cwd=railway_snapshot, expect=0).stdout
    assert max(map(len, told.splitlines())) <= 100
    assert "\x1b" not in told
    assert "what the rulebook says of it" in told
    assert "keymallet show " in told and f"keymallet view {topic} --by" in told


@pytest.mark.parametrize("topic", TOPICS)
def test_rows_and_groups_tell_the_same(railway_snapshot: Path, topic: str) -> None:
    """CSV, JSON and JSON lines hold the same rows; groups of any kind add up to them."""
    rows = list(
        csv.DictReader(io.StringIO(run("view", topic, *AT, "--format", "csv", cwd=railway_snapshot).stdout))
    )
    told = json.loads(run("view", topic, *AT, "--format", "json", cwd=railway_snapshot, expect=0).stdout)
    lines = run("view", topic, *AT, "--format", "jsonl", cwd=railway_snapshot, expect=0).stdout.splitlines()
    assert len(rows) == len(told["rows"]) == len(lines) > 0
    assert {row["state"] for row in rows} <= told["states"].keys()
    assert told["topic"] == topic and told["told"]
    for by in TOPICS[topic].groupings:
        words = ("view", topic, *AT, "--format", "json", "--groups", "--by", by)
        groups = json.loads(run(*words, cwd=railway_snapshot, expect=0).stdout)["groups"]
        assert sum(group["all"] for group in groups) == len(rows)
        assert sum(group[state] for group in groups for state in told["states"]) == len(rows)


def test_the_tables_beside_the_picture_are_whole(railway_snapshot: Path) -> None:
    """Every opening with what is amiss with it, not only the ten that a terminal shows; gates by name."""
    words = ("view", "elevation", *AT, "--part", "openings", "--format", "csv")
    openings = list(csv.DictReader(io.StringIO(run(*words, cwd=railway_snapshot, expect=0).stdout)))
    assert (
        len(openings)
        == len((railway_snapshot / "exports/openings.csv").read_text("utf-8-sig").splitlines()) - 1
    )
    own = {row["elevation"] for row in openings if "approved by oneself" in row["problems"]}
    planted = csv.DictReader((railway_snapshot / "ground-truth.csv").open(encoding="utf-8"))
    assert own == {row["subject"].split()[0] for row in planted if row["rule"] == "opening-approved"}
    words = ("view", "factors", *AT, "--part", "gates", "--format", "json")
    told = json.loads(run(*words, cwd=railway_snapshot, expect=0).stdout)
    assert told["part"] == "gates" and len(told["rows"]) == 6
    assert (
        "--part problems --format csv"
        in run("view", "--all", "temporary", *AT, cwd=railway_snapshot, expect=0).stdout
    )


@pytest.mark.parametrize("topic", TOPICS)
@pytest.mark.parametrize(
    ("form", "begins"), [("png", b"\x89PNG"), pytest.param("svg", b"<?xml", marks=pytest.mark.deep)]
)
def test_every_topic_is_drawn(
    railway_snapshot: Path, tmp_path: Path, topic: str, form: str, begins: bytes
) -> None:
    """The same bytes each time."""
    drawn = []
    for number in range(2):
        file = tmp_path / f"{number}.{form}"
        run("view", topic, *AT, "--figure", str(file), cwd=railway_snapshot, expect=0)
        drawn.append(file.read_bytes())
    assert drawn[0].startswith(begins) and drawn[0] == drawn[1]


def test_every_topic_there_is_has_a_view_and_rules(railway_snapshot: Path) -> None:
    """No topic is half there."""
    assert set(TOPICS) <= set(NAMES)
    told = json.loads(run("judge", *AT, "--format", "json", cwd=railway_snapshot).stdout)
    assert told["rules"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("factor",), 'there is no topic "factor"; did you mean "factors"?'),
        (("factors", "--by", "units"), '--by: factors cannot be grouped by "units"; did you mean "unit"?'),
        (("factors", "--figure", "x.gif"), "a figure is a PNG or an SVG"),
        (("factors", "--figure", "no/such/folder.png"), "the file cannot be written"),
        (("factors", "--part", "gates"), "--part and --groups choose which rows are written"),
        (("factors", "--part", "gate", "--format", "csv"), 'has no table "gate"; did you mean "gates"?'),
        (("factors", "--rows", "many"), '"many" is no number of rows'),
    ],
)
def test_what_cannot_be_shown_is_said(railway_snapshot: Path, words: tuple[str, ...], told: str) -> None:
    """In one sentence, with what there is instead."""
    assert told in " ".join(run("view", *words, cwd=railway_snapshot, expect=2).stderr.split())


def test_an_estate_that_tells_nothing_of_a_topic(tmp_path: Path) -> None:
    """Names alone: everything is unproven, and nothing breaks."""
    write(
        tmp_path,
        {
            "estate.toml": 'organisation = "O"\nclock = "UTC"\nrulebook = "base"\n'
            '[source.d]\nread = "csv"\nmap = "map.toml"\nfiles = { account = "a.csv" }\n',
            "map.toml": '[account.columns]\nname = "Login"\n',
            "a.csv": "Login\n[red]alma[/]\n\x1b[31mbruno\n",
        },
    )
    run("read", cwd=tmp_path)
    for topic in TOPICS:
        told = run("view", topic, "--figure", f"{topic}.png", cwd=tmp_path, expect=0).stdout
        assert "\x1b" not in told


def test_judge_sums_the_topics_up_and_show_tells_the_accounts_part(railway_snapshot: Path) -> None:
    """A line for each topic with the command that looks closer; one account's part in each, in short."""
    told = run("judge", "--all", *AT, cwd=railway_snapshot, expect=1).stdout
    for topic in TOPICS:
        assert f"keymallet view {topic}" in told
    record = json.loads(run("judge", *AT, "--format", "json", cwd=railway_snapshot).stdout)["rules"]
    factors = [rule for rule in record if rule["topic"] == "factors"]
    (line,) = [line for line in told.splitlines() if line.startswith("factors ")]
    assert line.split()[1:3] == [str(len(factors)), str(sum(rule["breach"] for rule in factors))]

    def short(account: str) -> str:
        shown = run("show", "--all", account, *AT, cwd=railway_snapshot, expect=0).stdout
        return " ".join(shown[shown.index("in short") : shown.index("verdicts:")].split())

    till = short("directory/counter-01")
    assert "factors none; the weakest way in over the network reaches AAL1; gates: covered by none" in till
    assert "counter-tills (technical): in force, until 2027-03-01; rules: second-factor-asked" in till
    east = short("directory/emergency-2")
    assert "gates: asked by Administrators prove soundly" in east
    assert "standing: Directory owner, group emergency" in east
    assert "by failures; since 2026-11-24; until 2026-11-24 10:20" in short("ticketing/tix-1/i.schneetaler")
    assert "api-key GVR-K-0031: too old, one of several, no end" in short("directory/svc-fares-1")


def test_copies_of_a_password_are_seen_and_their_digests_are_gone(railway_snapshot: Path) -> None:
    """Two accounts on one host have the very same line; nothing of how it is stored is in the snapshot."""
    words = (
        "who",
        "length(password-shared-with) > 0",
        *AT,
        "--columns",
        "password-shared-with",
        "--format",
        "json",
    )
    rows = json.loads(run(*words, cwd=railway_snapshot, expect=0).stdout)["rows"]
    pair = {row["account"]: row["password-shared-with"] for row in rows}
    assert len(pair) == 2 and [[other] for other in pair] == list(reversed(list(pair.values())))
    snapshot = newest(railway_snapshot)
    assert "password-digest" not in snapshot.manifest.tables["account"].columns
    assert not [
        source
        for source in snapshot.manifest.sources.values()
        if "password-digest" in source.supply.get("account", {})
    ]


def test_what_an_earlier_reading_told_is_worked_out_anew(railway: Path) -> None:
    """Taken over from the snapshot before, gates and openings come to the same."""
    run("read", *AT, "--only", "staff", cwd=railway)
    for topic in ("factors", "elevation", "lockouts"):
        words = ("view", topic, *AT, "--format", "json")
        first, *_ = sorted((railway / "snapshots").glob("20*"))
        before = json.loads(run(*words, "--snapshot", str(first), cwd=railway, expect=0).stdout)
        after = json.loads(run(*words, cwd=railway, expect=0).stdout)
        assert before["rows"] == after["rows"] and before["snapshot"] != after["snapshot"]
