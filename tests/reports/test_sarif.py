"""SARIF, held against its schema; and the lines it names, against the files as they stand."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import jsonschema

from tests.oracles import package_of_npm
from tests.support import run, write

AT = ("--at", "2026-11-24T09:00Z")


def results(path: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(path.read_bytes())["runs"][0]["results"]
    return found


def placed(path: Path) -> dict[str, tuple[str, int]]:
    """File and line by what each finding is on."""
    found = {}
    for result in results(path):
        (location,) = result["locations"]
        if "physicalLocation" in location:
            place = location["physicalLocation"]
            line = place.get("region", {}).get("startLine", 0)
            found[result["message"]["text"].partition(":")[0]] = (
                unquote(place["artifactLocation"]["uri"]),
                line,
            )
    return found


def test_it_is_as_its_schema_says(reports: Path) -> None:
    schema = json.loads(
        (package_of_npm("@microsoft/jest-sarif") / "lib/schemas/sarif-2.1.0-rtm.5.json").read_text("utf-8")
    )
    log = json.loads((reports / "report.sarif").read_bytes())
    checker = jsonschema.validators.validator_for(schema)(schema)
    assert [error.message for error in checker.iter_errors(log)] == []
    assert len(results(reports / "report.sarif")) == 295
    kinds = {result["kind"] for result in results(reports / "report.sarif")}
    assert kinds == {"fail"} and len(log["runs"][0]["invocations"][0]["toolExecutionNotifications"]) == 7
    log["runs"][0]["results"][0]["level"] = "dreadful"
    assert list(checker.iter_errors(log)), "the judge can say no"


def test_each_line_is_the_one_that_names_the_account(reports: Path, four_weeks: Path) -> None:
    """In exports, on hosts, in JSON; where no line can be told, the file alone."""
    found = placed(reports / "report.sarif")
    lines = {}
    for on, (file, line) in found.items():
        text = (four_weeks / "there" / file).read_text("utf-8").split("\n")
        if line:
            name = on.split(" [")[0].rpartition("/")[2]
            assert name in text[line - 1], (on, file, line)
            lines[file] = line
    assert {
        "exports/accounts.csv",
        "exports/keys.csv",
        "exports/cloud.json",
        "hosts/tix-1/etc/shadow",
    } <= lines.keys()
    assert found["directory/k.grategger [invitation GVR-H-006]"][0] == "exports/keys.csv"


def test_places_in_files_that_are_hard_to_count(tmp_path: Path) -> None:
    """A cell of several lines, a header below others, JSON lines; the row of a key, and not another of its account."""
    write(
        tmp_path,
        {
            "estate.toml": 'organisation = "Quay"\nclock = "UTC"\nrulebook = "b.toml"\nlogbook = "logbook"\n'
            '[source.d]\nread = "csv"\nmap = "d.toml"\nfiles = { account = "d e.csv", key = "k.csv" }\n'
            '[source.j]\nread = "json"\nmap = "j.toml"\nfiles = { account = "j.jsonl" }\n',
            "d.toml": 'header-line = 2\n[account.columns]\nname = "n"\ndisplay = "t"\nenabled = { from = "e", true = ["y"], false = ["n"] }\n'
            '[key.columns]\naccount = "who"\nkey = "id"\nstate = { from = "s", words = { ok = "active", off = "revoked" } }\n',
            "d e.csv": '# list\nn,t,e\nada,"two\nlines",n\nbea,"ada",n\n"c,d",x,n\n',
            "k.csv": "# keys\nwho,id,s\nada,K1,off\nbea,K7,ok\nada,K7,ok\n",
            "j.toml": '[account.columns]\nname = "id.login"\nenabled = "on"\n',
            "j.jsonl": '{"id": {"login": "x"}, "boss": "y", "on": false}\n\n{"id": {"login": "y"}, "on": false}\n',
            "b.toml": 'title = "T"\n[rule.on]\ntitle = "On"\nmust = "enabled"\nseverity = "high"\n'
            '[rule.k]\ntitle = "No keys"\neach = "key"\nmust = "state = revoked"\nseverity = "low"\n',
        },
    )
    run("read", *AT, cwd=tmp_path)
    run("judge", *AT, "--record", cwd=tmp_path, expect=1)
    run("report", "--format", "sarif", "--output", "r.sarif", cwd=tmp_path, expect=0)
    found = placed(tmp_path / "r.sarif")
    assert {on: place for on, place in found.items() if "[" not in on} == {
        "d/ada": ("d e.csv", 3),
        "d/bea": ("d e.csv", 5),
        "d/c,d": ("d e.csv", 6),
        "j/x": ("j.jsonl", 1),
        "j/y": ("j.jsonl", 3),
    }
    keys = {on.partition("/")[2][:3]: place for on, place in found.items() if "[" in on}
    assert keys == {"ada": ("k.csv", 5), "bea": ("k.csv", 4)}
    write(tmp_path, {"d e.csv": "# list\nn,t,e\nsomebody else,x,n\n"})
    run("report", "--format", "sarif", "--output", "r.sarif", cwd=tmp_path, expect=0)
    assert placed(tmp_path / "r.sarif")["d/ada"] == ("d e.csv", 0), "the file is another now: no line is told"
