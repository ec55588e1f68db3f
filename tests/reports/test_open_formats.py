"""The open formats of a report, each held against a validator that is not ours."""

from __future__ import annotations

import csv
import io
import json
import re
from importlib.resources import files
from pathlib import Path
from typing import Any

import csvw
import icalendar
import jsonschema
import pytest
from ocsf.v1_6_0.events import ComplianceFinding, ScanActivity
from oscal_bindings.parser import OscalParseError, parse_assessment_results
from pydantic import ValidationError

from tests.oracles import alone_from_pypi
from tests.support import run, write

HOSTILE = ('=cmd|"x"', 'a\\b"c]d', "two\nlines", "\u202eevil\x1b[31m", "Ärger 漢字", "'; drop--", "-1+1")
AT = ("--at", "2026-11-24T09:00Z")


@pytest.fixture(scope="module")
def hostile(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A run over accounts whose names are meant to break out of their place, in every format that is text."""
    folder = tmp_path_factory.mktemp("hostile")
    out = io.StringIO()
    csv.writer(out).writerows([("n", "e"), *((name, "n") for name in HOSTILE)])
    write(
        folder,
        {
            "estate.toml": 'organisation = "Quay ] \\" Co"\nclock = "UTC"\nrulebook = "b.toml"\nlogbook = "logbook"\n'
            '[source.d]\nread = "csv"\nmap = "d.toml"\nfiles = { account = "d.csv" }\n',
            "d.toml": '[account.columns]\nname = "n"\ndisplay = "n"\nunit = "n"\n'
            'enabled = { from = "e", true = ["y"], false = ["n"] }\n',
            "d.csv": out.getvalue(),
            "b.toml": 'title = "T"\n[rule.on]\ntitle = "All are on"\nmust = "enabled"\nseverity = "high"\n',
        },
    )
    run("read", *AT, cwd=folder)
    run("judge", *AT, "--record", cwd=folder, expect=1)
    formats = ("csv", "jsonl", "json", "calendar", "ocsf", "oscal", "syslog")
    run("report", *(w for name in formats for w in ("--format", name)), "--into", "r", cwd=folder, expect=0)
    return folder / "r"


def lines(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text("utf-8").split("\n") if line]


def both(reports: Path, hostile: Path, name: str) -> list[tuple[Path, int]]:
    return [(reports / name, 295), (hostile / name, len(HOSTILE))]


def test_csv_is_as_its_metadata_says(reports: Path, hostile: Path, tmp_path: Path) -> None:
    """Read by csvw: every cell has the datatype that the metadata names, and every id is there once."""
    for path, number in both(reports, hostile, "report.csv"):
        table = csvw.CSVW(str(path.parent / "report.csv-metadata.json"), validate=True)
        assert table.is_valid, table.warnings
        rows = list(next(iter(table.tables)).iterdicts())
        assert len(rows) == number and len({row["finding_id"] for row in rows}) == number
        told = json.loads((path.parent / "report.csv-metadata.json").read_text("utf-8"))
        assert "snapshot, BLAKE3" in {note["what"] for note in told["notes"]}
    names = {
        row["account"] for row in csv.DictReader((hostile / "report.csv").open(newline="", encoding="utf-8"))
    }
    assert names == {f"d/{name}" for name in HOSTILE}
    late = list(csvw.CSVW(str(reports / "report.csv-metadata.json")).tables[0].iterdicts())
    assert sum(isinstance(row["late_by_seconds"], int) for row in late) == 85
    broken = (reports / "report.csv").read_text("utf-8").replace("2026-11-03T", "yesterday", 1)
    write(
        tmp_path,
        {
            "report.csv": broken,
            "report.csv-metadata.json": (reports / "report.csv-metadata.json").read_text(),
        },
    )
    assert not csvw.CSVW(str(tmp_path / "report.csv-metadata.json"), validate=True).is_valid, (
        "the judge can say no"
    )


def test_csv_for_a_spreadsheet_holds_no_formula(hostile: Path) -> None:
    there = hostile.parent
    run("report", "--format", "csv", "--spreadsheet", "--output", "s.csv", cwd=there, expect=0)
    data = (there / "s.csv").read_bytes()
    assert data.startswith(b"\xef\xbb\xbf") and (there / "s.csv-metadata.json").is_file()
    cells = [cell for row in csv.reader(io.StringIO(data.decode("utf-8-sig"), newline="")) for cell in row]
    assert '\'=cmd|"x"' in cells and not [cell for cell in cells if re.match(r"[=+\-@\t\r]", cell)]


def test_json_lines_are_as_their_schema_says(reports: Path, hostile: Path) -> None:
    """Each line by itself; the findings are those of the JSON object, value for value."""
    schema = json.loads(files("keymallet.reports").joinpath("report-line-1.schema.json").read_text("utf-8"))
    jsonschema.Draft202012Validator.check_schema(schema)
    checker = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
    for path, number in both(reports, hostile, "report.jsonl"):
        head, *found = lines(path)
        assert not [error.message for line in (head, *found) for error in checker.iter_errors(line)]
        assert head["line"] == "report" and head["findings"] == len(found) == number
        whole = json.loads((path.parent / "report.json").read_bytes())["findings"]
        for line, other in zip(found, whole, strict=True):
            line.pop("line")
            assert {name: _instant(value) for name, value in line.items()} == {
                name: _instant(value) for name, value in other.items()
            }
    assert list(checker.iter_errors({**found[0], "line": "finding", "state": "perhaps"})), (
        "the judge can say no"
    )


def _instant(value: object) -> object:
    return value.replace(".000000Z", "Z") if isinstance(value, str) else value


def test_events_are_as_ocsf_has_them(reports: Path, hostile: Path) -> None:
    """Read by pydantic-ocsf: a scan, then a compliance finding each; what is exempt is suppressed."""
    for path, number in both(reports, hostile, "report.ocsf.jsonl"):
        head, *events = lines(path)
        scan = ScanActivity.model_validate(head)
        assert any(label.startswith("snapshot, BLAKE3") for label in scan.metadata.labels or [])
        found = [ComplianceFinding.model_validate(event) for event in events]
        assert len({event.finding_info.uid for event in found}) == number
        assert {event.metadata.correlation_uid for event in found} == {scan.metadata.correlation_uid}
        assert all(event.type_uid == event.class_uid * 100 + event.activity_id for event in found)
    told = lines(reports / "report.ocsf.jsonl")[1:]
    exempt = {event["finding_info"]["uid"] for event in told if event["status_id"] == 3}
    states = json.loads((reports / "report.json").read_bytes())["findings"]
    assert exempt == {each["finding-id"] for each in states if each["state"] == "exempt"} and exempt
    with pytest.raises(ValidationError):
        ComplianceFinding.model_validate({**told[0], "severity_id": 12})


def test_assessment_results_are_as_oscal_has_them(reports: Path, hostile: Path) -> None:
    """Read by oscal-bindings; a rule that somebody falls short of is not satisfied, one that all meet is."""
    for path, number in both(reports, hostile, "report.oscal.json"):
        (result,) = parse_assessment_results(path.read_bytes()).assessment_results.results
        assert len(result.observations or []) == number
        seen = {str(each.uuid) for each in result.observations or []}
        named = [
            str(link.observation_uuid)
            for found in result.findings or []
            for link in found.related_observations or []
        ]
        assert sorted(named) == sorted(seen)
    document = json.loads((reports / "report.oscal.json").read_bytes())
    (result,) = document["assessment-results"]["results"]
    states = {each["target"]["target-id"]: each["target"]["status"]["state"] for each in result["findings"]}
    whole = json.loads((reports / "report.json").read_bytes())
    broken = {each["rule"] for each in whole["findings"] if each["state"] != "exempt"}
    assert {rule for rule, state in states.items() if state == "not-satisfied"} == broken
    unproven = {rule["id"] for rule in whole["rules"] if rule["unproven"]}
    assert not {rule for rule, state in states.items() if state == "satisfied"} & (unproven | broken)
    assert "evidence is incomplete" in result["remarks"]
    document["assessment-results"]["results"][0]["observations"][0].pop("collected")
    with pytest.raises(OscalParseError):
        parse_assessment_results(json.dumps(document))


PARSED = """
import json, sys
from syslog_rfc5424_parser import SyslogMessage
for line in sys.stdin.buffer.read().decode().split("\\n"):
    if line:
        print(json.dumps(SyslogMessage.parse(line).as_dict()))
"""


def test_messages_are_as_rfc_5424_has_them(reports: Path, hostile: Path) -> None:
    """Read by a parser of its own; what a name holds stays in its value."""
    for path, number in both(reports, hostile, "report.log"):
        done = alone_from_pypi("syslog-rfc5424-parser==0.3.2", "-c", PARSED, given=path.read_bytes())
        assert done.returncode == 0, done.stderr[-500:]
        head, *told = [json.loads(line) for line in done.stdout.decode().splitlines()]
        assert len(told) == number and head["msgid"] == "run"
        data = [each["sd"]["keymallet@32473"] for each in told]
        assert {each["head"] for each in data} == {
            re.sub(r".* head ", "", head["sd"]["keymallet@32473"]["run"])
        }
    # The parser leaves the three escapes of structured data as they are.
    accounts = {re.sub(r'\\(["\\\]])', r"\1", each["account"]) for each in data}
    assert {
        'd/=cmd|"x"',
        'd/a\\b"c]d',
        "d/Ärger 漢字",
        "d/\\u202eevil\\x1b[31m",
        "d/two\\x0alines",
    } <= accounts
    assert not re.search(rb"[\x00-\x09\x0b-\x1f]", (hostile / "report.log").read_bytes())


def test_the_calendar_has_due_dates_and_what_comes_to_exemptions(reports: Path) -> None:
    """Read by icalendar; everything that has to be mended, and the reviews, drills and ends of 90 days."""
    events = icalendar.Calendar.from_ical((reports / "report.ics").read_bytes()).walk("VEVENT")
    due = [each for each in events if str(each["SUMMARY"]).startswith(("due: ", "late: "))]
    whole = json.loads((reports / "report.json").read_bytes())["findings"]
    assert len(due) == sum(each["due"] is not None for each in whole)
    assert len(events) > len(due) and len({str(each["UID"]) for each in events}) == len(events)
