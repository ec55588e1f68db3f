"""keymallet exempt: listing and editing the register through the installed program."""

from __future__ import annotations

import dataclasses
import hashlib
import json
import re
import shlex
import subprocess
import time
import tomllib
from pathlib import Path
from typing import Any

import pytest

from keymallet.commands import register_edit
from keymallet.sources.rulebooks import shipped_text
from tests.conftest import RAILWAY_AT
from tests.support import PROGRAM, newest, run, write

AT = ("--at", RAILWAY_AT)
WHY = "Tills are opened by staff card; their passwords are never typed."
ADD = (
    "exempt", "add", "tills", "--kind", "technical", "--account", "directory/counter-*", "--rule", "password-age",
    "--reason", WHY, "--asked-by", "ticketing", "--approved-by", "information security",
)  # fmt: skip
END = ("--until", "2027-03-01")


def test_list_tells_what_holds_and_what_is_amiss(railway_snapshot: Path) -> None:
    """The worst first; as rows for programs too."""
    told = run("exempt", "list", *AT, cwd=railway_snapshot, expect=0).stdout
    assert told.index("guests-autumn") < told.index("counter-tills") < told.index("break-glass-west")
    rows = json.loads(run("exempt", "list", *AT, "--format", "json", cwd=railway_snapshot, expect=0).stdout)[
        "entries"
    ]
    states = {row["exemption"]: row["state"] for row in rows}
    assert states["guests-autumn"] == "ended, still relied on" and states["break-glass-west"] == "holds"
    amiss = {row["exemption"]: row["problems"] for row in rows}
    assert amiss["old-till"] == ["no end", "review is due", "approved by whom it serves", "covers nobody"]


def test_adding_leaves_the_rest_of_the_file_alone(railway: Path) -> None:
    """Comments, order and blank lines stay to the byte; the new entry is read and applied."""
    before = (railway / "exemptions.toml").read_text("utf-8")
    told = run(*ADD, *END, *AT, cwd=railway, expect=0).stdout
    assert "it covers 10 accounts until 2027-03-01" in told
    after = (railway / "exemptions.toml").read_text("utf-8")
    assert after.startswith(before) and "matched = 10" in after
    run(*ADD, *END, *AT, cwd=railway, expect=2)
    rows = json.loads(run("exempt", "list", *AT, "--format", "json", cwd=railway).stdout)["entries"]
    assert next(row for row in rows if row["exemption"] == "tills")["reason"] == WHY


def test_the_first_entry_makes_the_file(railway: Path) -> None:
    """Refused, it makes none."""
    run(*ADD, *AT, "--register", "new.toml", cwd=railway, expect=2)
    assert not (railway / "new.toml").exists()
    # Who approves is known by address there too, although nothing was ever exempt.
    by_mail = ["counter-03@gvr.example" if word == "information security" else word for word in ADD]
    done = run(*by_mail, *END, *AT, "--register", "new.toml", cwd=railway, expect=2)
    assert "or is covered by it" in done.stderr
    run(*ADD, *END, *AT, "--register", "new.toml", cwd=railway, expect=0)
    assert (railway / "new.toml").read_text("utf-8").count("[exemption.tills]") == 1


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"until": ""}, "an exemption needs an end"),
        ({"until": "2026-11-24"}, "it would be over already"),
        ({"until": "soon"}, "instant"),
        ({"approved-by": "Ticketing"}, "Ticketing asked for it, or is covered by it"),
        ({"approved-by": "counter-03"}, "counter-03 asked for it, or is covered by it"),
        ({"approved-by": "counter-03@gvr.example"}, "or is covered by it"),
        ({"approved-by": " "}, "who asked for it, and who approved it"),
        ({"reason": "as discussed"}, '"as discussed" is no reason'),
        ({"account": "directory/kiosk-*"}, 'no account is called like "directory/kiosk-*"'),
        ({"rule": "pasword-age"}, 'no rule is called like "pasword-age"'),
        ({"kind": "tecnical"}, 'did you mean "technical"?'),
        ({"review-every": "yearly"}, '"yearly" is no length of time'),
    ],
)
def test_what_must_not_get_in_is_refused(railway: Path, change: dict[str, str], told: str) -> None:
    """Every reason at once, and the file stays as it was."""
    before = (railway / "exemptions.toml").read_bytes()
    words = {
        "kind": "technical", "account": "directory/counter-*", "rule": "password-age", "reason": WHY,
        "asked-by": "ticketing", "approved-by": "information security", "until": "2027-03-01", **change,
    }  # fmt: skip
    options = [part for key, value in words.items() if value for part in (f"--{key}", value)]
    done = run("exempt", "add", "tills", *options, *AT, cwd=railway, expect=2)
    assert told in done.stderr
    assert (railway / "exemptions.toml").read_bytes() == before


def test_an_emergency_entry_needs_no_end(railway: Path) -> None:
    """It is reviewed and drilled instead."""
    words = ["emergency" if word == "technical" else word for word in ADD]
    run(*words, *AT, cwd=railway, expect=0)


def test_reviewing(railway: Path) -> None:
    """What has grown has to be approved anew; one line of the entry changes with it, no other."""
    done = run("exempt", "review", "counter-tills", *AT, cwd=railway, expect=2)
    assert "covers 10 accounts; approved were 8" in done.stderr
    by_itself = ("exempt", "review", "counter-tills", "--approved-by", "counter-01", *AT)
    assert "cannot approve it" in run(*by_itself, cwd=railway, expect=2).stderr
    before = (railway / "exemptions.toml").read_text("utf-8").splitlines()
    words = ("exempt", "review", "counter-tills", "--approved-by", "information security", *AT)
    assert "again by 2027-05-23" in run(*words, cwd=railway, expect=0).stdout
    after = (railway / "exemptions.toml").read_text("utf-8").splitlines()
    changed = [line for line in after if line not in before]
    assert changed == [
        "reviewed     = 2026-11-24",
        "[[exemption.counter-tills.term]]",
        "decided = 2026-11-24T09:00:00Z",
        'approved-by = "information security"',
        "from = 2026-11-24T09:00:00Z",
        "until = 2027-03-01",
        "matched = 10",
    ]
    assert [line for line in before if line not in after] == ["reviewed     = 2026-08-20"]
    run("exempt", "review", "break-glass-east", "--drilled", *AT, cwd=railway, expect=0)
    told = run("judge", *AT, "--format", "json", cwd=railway).stdout
    (drilled,) = [each for each in json.loads(told)["rules"] if each["rule"] == "emergency-drilled"]
    assert drilled["breach"] == 0


def test_ending_makes_breaches_of_what_was_exempt(railway: Path) -> None:
    """From that instant on; what is over cannot be ended again."""

    def exempt() -> int:
        return int(re.search(r"(\d+) exempt", run("judge", *AT, cwd=railway).stdout)[1])

    assert exempt() == 11
    run("exempt", "end", "counter-tills", "--on", "2026-11-24T09:00:01Z", *AT, cwd=railway, expect=0)
    assert exempt() == 11
    run("exempt", "end", "counter-tills", *AT, cwd=railway, expect=0)
    assert exempt() == 1
    done = run("exempt", "end", "counter-tills", *AT, cwd=railway, expect=2)
    assert "ends before that" in done.stderr
    done = run("exempt", "end", "counter-till", *AT, cwd=railway, expect=2)
    assert 'no entry "counter-till"; did you mean "counter-tills"?' in done.stderr


def test_a_broken_register_stops_everything_and_stays(railway: Path) -> None:
    """Nothing is judged as if nobody were exempt, and nothing is written over."""
    (railway / "exemptions.toml").write_text('[exemption.a]\nkind = "odd"\n')
    for words in (("judge",), ("exempt", "list"), ("exempt", "end", "a"), (*ADD, *END)):
        done = run(*words, *AT, cwd=railway, expect=2)
        assert "exemptions.toml:1:2" in done.stderr
    assert (railway / "exemptions.toml").read_text() == '[exemption.a]\nkind = "odd"\n'
    (railway / "exemptions.toml").unlink()
    assert "exemptions.toml" in run("judge", *AT, cwd=railway, expect=2).stderr


def test_an_estate_without_a_register(railway: Path) -> None:
    """It says how to have one."""
    estate = (railway / "estate.toml").read_text("utf-8")
    (railway / "estate.toml").write_text(
        "".join(line for line in estate.splitlines(True) if "exemptions" not in line)
    )
    done = run("exempt", "list", *AT, cwd=railway, expect=2)
    assert 'add register = "exemptions.toml" to the estate file' in done.stderr
    told = run("view", "--all", "exemptions", *AT, cwd=railway, expect=0).stdout
    assert "There is no register of exemptions" in told


IN_ORDER = (
    'kind = "technical"\naccounts = ["directory/counter-*"] # why\nrules = ["password-age"]\nreason = "Tills are opened by card, never typed."\n'
    'asked-by = "x"\napproved-by = "y"\nuntil = 2027-01-01\nmatched = 10\n'
)


@pytest.mark.parametrize(
    "text",
    [
        "# only a comment",
        "",
        "\ufeff[exemption.a]\n" + IN_ORDER,
        ("[exemption.a]\n" + IN_ORDER).replace("\n", "\r\n"),
        "".join(f"exemption.a.{line}\n" for line in IN_ORDER.replace(" # why", "").splitlines()),
    ],
    ids=["comment", "empty", "byte order mark", "CRLF", "dotted"],
)
def test_however_it_is_written(railway: Path, text: str) -> None:
    """What stands there stays, line ends too; another entry follows, and each can be reviewed and ended."""
    file = railway / "exemptions.toml"
    file.write_bytes(text.encode())
    run(*ADD, *END, *AT, cwd=railway, expect=0)
    after = file.read_bytes().decode()
    assert after.startswith(text.removeprefix("\ufeff").rstrip())
    assert after.count("\r\n") in (0, after.count("\n"))
    for name in ["tills"] + ["a"] * ("exemption.a" in text):
        run("exempt", "review", name, *AT, cwd=railway, expect=0)
        run("exempt", "end", name, "--on", "2026-12-24", *AT, cwd=railway, expect=0)
    ended = file.read_bytes().decode()
    assert ended.count("2026-12-24") == 1 + ("exemption.a" in text)
    assert ended.count("\r\n") in (0, ended.count("\n"))


def test_an_inline_table_takes_no_more(railway: Path) -> None:
    """It is said, with what to write instead; nothing is lost."""
    text = "exemption = { a = { " + ", ".join(IN_ORDER.replace(" # why", "").splitlines()) + " } }\n"
    (railway / "exemptions.toml").write_text(text)
    done = run(*ADD, *END, *AT, cwd=railway, expect=2)
    assert "which nothing can be added to" in done.stderr
    assert (railway / "exemptions.toml").read_text() == text
    run("exempt", "end", "a", *AT, cwd=railway, expect=0)


def test_a_reason_is_kept_to_the_letter(railway: Path) -> None:
    """Quotes, breaks and what would steer a terminal."""
    words = [word if word != WHY else 'Line one of it\nline "two" \\ three \x1b[31m' for word in ADD]
    run(*words, *END, *AT, cwd=railway, expect=0)
    told = run("exempt", "list", *AT, "--format", "json", cwd=railway, expect=0).stdout
    (entry,) = [row for row in json.loads(told)["entries"] if row["exemption"] == "tills"]
    assert entry["reason"] == 'Line one of it\nline "two" \\ three \x1b[31m'
    assert "\x1b" not in run("view", "exemptions", *AT, cwd=railway, expect=0).stdout


def test_naming_snapshot_and_rulebook_keeps_the_register(railway_snapshot: Path) -> None:
    """None of the three switches another off."""
    whole = json.loads(run("judge", *AT, "--format", "json", cwd=railway_snapshot).stdout)
    snapshot = newest(railway_snapshot).folder
    named = ("--snapshot", str(snapshot), "--rulebook", str(railway_snapshot / "rulebook.toml"))
    again = json.loads(run("judge", *AT, *named, "--format", "json", cwd=railway_snapshot).stdout)
    assert again["findings"] == whole["findings"] and again["gaps"] == whole["gaps"]
    assert any(row["verdict"] == "exempt" for row in again["findings"])


def test_what_an_entry_excuses_is_counted_by_any_book(railway_snapshot: Path, tmp_path: Path) -> None:
    """Also by one without a rule about the register itself."""
    write(
        tmp_path,
        {"b.toml": 'title = "B"\n[rule.password-scheme]\ntitle = "S"\nmust = "false"\nseverity = "low"\n'},
    )
    register = (
        '[exemption.e]\nkind = "technical"\naccounts = ["directory/counter-*"]\nrules = ["password-*"]\n'
    )
    write(tmp_path, {"r.toml": register})
    words = (
        "--rulebook",
        str(tmp_path / "b.toml"),
        "--register",
        str(tmp_path / "r.toml"),
        "--format",
        "json",
    )
    told = json.loads(run("exempt", "list", *AT, *words, cwd=railway_snapshot, expect=0).stdout)
    assert [(row["covers"], row["excuses"]) for row in told["entries"]] == [(10, 10)]


def test_extending_leaves_the_past_as_it_was_judged(railway: Path) -> None:
    """An ended entry is extended: what was a breach in between stays one, and its old end and number stay written."""
    day = ("--at", "2026-11-10T09:00Z")
    wanted = ("judge", *day, "--format", "json")

    def exempt_then() -> list[str]:
        told = json.loads(run(*wanted, cwd=railway).stdout)["findings"]
        return sorted(row["account"] for row in told if "guests-autumn" in row["exemption"])

    file = railway / "exemptions.toml"
    file.write_text(
        file.read_text("utf-8").replace('reason       = "temporary"', f'reason = "{WHY}"\nmatched = 500'),
        "utf-8",
    )
    before = exempt_then()
    words = ("--until", "2027-01-01", "--approved-by", "board of safety")
    run("exempt", "review", "guests-autumn", *words, *AT, cwd=railway, expect=0)
    assert exempt_then() == before == []
    text = file.read_text("utf-8")
    assert "until        = 2026-11-01" in text and "matched = 500" in text and "until = 2027-01-01" in text
    now = json.loads(run("judge", *AT, "--format", "json", cwd=railway).stdout)["findings"]
    assert any("guests-autumn" in row["exemption"] for row in now)
    run("exempt", "end", "guests-autumn", *AT, "--on", "2026-12-01", cwd=railway, expect=0)
    text = file.read_text("utf-8")
    assert "planned-until = 2027-01-01" in text and "until        = 2026-11-01" in text, "the past stays"


def test_edits_side_by_side_are_all_kept(railway: Path) -> None:
    """Each waits for the one before; the file keeps its mode, and a link stays a link."""
    kept = railway / "kept.toml"
    (railway / "exemptions.toml").rename(kept)
    (railway / "exemptions.toml").symlink_to("kept.toml")
    kept.chmod(0o640)
    words = [
        [("tills-" + str(place)) if word == "tills" else word for word in (*ADD, *END, *AT)]
        for place in range(4)
    ]
    running = [
        subprocess.Popen([str(PROGRAM), *each], cwd=railway, stdout=subprocess.DEVNULL) for each in words
    ]
    assert [each.wait(120) for each in running] == [0, 0, 0, 0]
    assert kept.read_text("utf-8").count("[exemption.tills-") == 4
    assert kept.stat().st_mode & 0o777 == 0o640 and (railway / "exemptions.toml").is_symlink()


def test_what_was_changed_meanwhile_is_not_written_over(
    railway: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An editor saved the file while the command was at it."""
    file = railway / "exemptions.toml"
    real = register_edit.open_inputs

    def meanwhile(*words: Any, **options: Any) -> Any:
        file.write_text(file.read_text("utf-8") + "# by hand\n", "utf-8")
        return real(*words, **options)

    monkeypatch.setattr(register_edit, "open_inputs", meanwhile)
    monkeypatch.setattr(register_edit, "_opened", _opened_late(register_edit._opened))
    done = run(*ADD, *END, *AT, cwd=railway, expect=2)
    assert "changed by somebody else meanwhile" in done.stderr
    assert file.read_text("utf-8").endswith("# by hand\n")


def _opened_late(opened: Any) -> Any:
    """The register's text as it was before the inputs were opened."""

    def late(path: Path, options: Any) -> Any:
        text = path.read_text("utf-8")
        return dataclasses.replace(opened(path, options), text=text)

    return late


def test_being_left_out_is_excused_by_an_entry_that_names_the_gate(railway: Path) -> None:
    """Not by any entry about the account: the one that names another gate, or none, excuses nothing."""
    rows = (
        "who",
        "enabled and length(left-out-unregistered) > 0",
        "--columns",
        "account",
        "--format",
        "csv",
        *AT,
    )
    assert run(*rows, cwd=railway, expect=0).stdout.split()[1:] == ["directory/i.laerchbichler"]
    file = railway / "exemptions.toml"
    whole = file.read_text("utf-8")
    over = whole.replace("from         = 2024-05-01", "from         = 2024-05-01\nuntil = 2026-11-01")
    file.write_text(over, "utf-8")
    assert len(run(*rows, cwd=railway, expect=0).stdout.split()) == 4, "an entry that is over excuses nothing"
    file.write_text(whole, "utf-8")
    file.write_text(file.read_text("utf-8").replace('"Staff prove twice"', '"Contractors *"'), "utf-8")
    assert len(run(*rows, cwd=railway, expect=0).stdout.split()) == 4
    words = [word if word != "directory/counter-*" else "emergency-1" for word in ADD]
    words = ["--gate" if word == "--rule" else word if word != "password-age" else "Staff*" for word in words]
    run(*words, *END, *AT, cwd=railway, expect=0)
    assert len(run(*rows, cwd=railway, expect=0).stdout.split()) == 3


def test_outputs_name_what_they_rest_on(railway_snapshot: Path, tmp_path: Path) -> None:
    """The plain SHA-256 of each file's bytes, a byte order mark included; what is included stands by itself."""
    own = b'\xef\xbb\xbftitle = "Own"\ninclude = ["base", "more.toml"]\n'
    more = b'title = "More"\r\n[rule.more]\r\ntitle = "M"\r\nmust = "mail is known"\r\nseverity = "low"\r\n'
    (tmp_path / "own.toml").write_bytes(own)
    (tmp_path / "more.toml").write_bytes(more)
    (tmp_path / "reg.toml").write_bytes(b"# nobody\n")
    named = (
        "--rulebook",
        str(tmp_path / "own.toml"),
        "--register",
        str(tmp_path / "reg.toml"),
        "--snapshot",
        str(newest(railway_snapshot).folder),
    )
    told = json.loads(run("judge", *AT, *named, "--format", "json", cwd=railway_snapshot).stdout)
    files = told["rulebook"]["files"]
    assert next(iter(files.values())) == told["rulebook"]["sha256"] == hashlib.sha256(own).hexdigest()
    assert files[str(tmp_path / "more.toml")] == hashlib.sha256(more).hexdigest()
    assert files["base"] == hashlib.sha256(shipped_text("base").encode()).hexdigest()
    assert told["register"]["sha256"] == hashlib.sha256(b"# nobody\n").hexdigest()
    assert told["snapshot"]["blake3"] == newest(railway_snapshot).digest
    who = json.loads(run("who", "locked", *AT, *named, "--format", "json", cwd=railway_snapshot).stdout)
    assert who["rests-on"]["rulebook"] == files and list(who["rests-on"]["register"].values()) == [
        told["register"]["sha256"]
    ]
    shown = run("judge", "--all", *AT, *named, cwd=railway_snapshot).stdout
    assert (
        f"own.toml {hashlib.sha256(own).hexdigest()[:12]}" in shown
        and f"snapshot {told['snapshot']['blake3'][:12]}" in shown
    )


# explaining a use

USED = (
    "exempt",
    "used",
    "break-glass-east",
    "--by",
    "shift lead",
    "--reason",
    "The sign-in service was down all night.",
)


def test_a_use_is_explained(railway: Path) -> None:
    """The rule that asked for an explanation is met; all else in the file stays."""
    before = (railway / "exemptions.toml").read_text("utf-8")
    who = ("who", "kind = emergency and not use-explained", *AT, "--format", "csv")
    unexplained = run(*who, cwd=railway).stdout.splitlines()[1:]
    assert [line.split(",")[0] for line in unexplained] == ["directory/emergency-2"]
    sign_ins = json.loads(
        run("who", "not explained", "--each", "sign-in", "--columns", "account, at", *AT,
            "--format", "json", cwd=railway).stdout
    )["rows"]  # fmt: skip
    mine = [row for row in sign_ins if row["account"] == "directory/emergency-2"]
    assert mine
    for row in mine:
        told = run(*USED, "--on", row["at"], *AT, cwd=railway, expect=0).stdout
        assert "the use of break-glass-east" in told and "it explains 0" not in told
    assert run(*who, cwd=railway).stdout.splitlines()[1:] == []
    after = (railway / "exemptions.toml").read_text("utf-8")
    kept = [line for line in after.splitlines() if line in before.splitlines()]
    assert kept[: len(before.splitlines())] and set(before.splitlines()) <= set(after.splitlines())


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--on", "2027-01-01"), "still to come"),
        (("--on", "2026-11-19T02:00Z", "--until", "2026-11-19T01:00Z"), "ends before it begins"),
        (("--reason", "n/a"), "is no reason"),
        (("--by", " "), "who used it"),
        (("--on", "yesterday"), "is no instant"),
    ],
)
def test_a_use_that_explains_nothing_is_refused(railway: Path, words: tuple[str, str], said: str) -> None:
    before = (railway / "exemptions.toml").read_bytes()
    assert said in run(*USED, *words, *AT, cwd=railway, expect=2).stderr
    other = [word.replace("break-glass-east", "counter-tills") for word in USED]
    assert "only the use of an emergency account" in run(*other, *AT, cwd=railway, expect=2).stderr
    assert (railway / "exemptions.toml").read_bytes() == before


@pytest.mark.parametrize("form", ["inline", "dotted", "crlf"])
def test_a_use_is_noted_however_the_entry_is_written(railway: Path, form: str) -> None:
    """In one line, in dotted keys, with Windows line ends."""
    text = {
        "inline": 'exemption.glass = { kind = "emergency", accounts = ["directory/emergency-2"], rules = ["*"] }\n',
        "dotted": '[exemption]\nglass.kind = "emergency"\nglass.accounts = ["directory/emergency-2"]\nglass.rules = ["*"]\n',
        "crlf": '[exemption.glass]\r\nkind = "emergency"\r\naccounts = ["directory/emergency-2"]\r\nrules = ["*"]\r\n',
    }[form]
    (railway / "exemptions.toml").write_bytes(text.encode())
    words = [word.replace("break-glass-east", "glass") for word in USED]
    for day in ("2026-11-19", "2026-11-20"):
        run(*words, "--on", day, *AT, cwd=railway, expect=0)
    written = (railway / "exemptions.toml").read_bytes().decode()
    assert len(tomllib.loads(written)["exemption"]["glass"]["used"]) == 2
    assert ("\r\n" in written) == (form == "crlf") and "\r\r" not in written


# a list that was kept elsewhere

LIST = """Nr;Art;Konten;Regel;Begründung;Beantragt von;Genehmigt von;Gültig von;Gültig bis;Überprüfung alle
EX 17;technisch;directory/counter-*;password-age;Tills are opened by staff card; ticketing;information security;01.03.2026;28.02.2027;180 Tage
"""
MAP = """separator = ";"
list-separator = ","
[dates]
formats = ["%d.%m.%Y"]
[exemption.columns]
exemption = "Nr"
kind = { from = "Art", words = { "technisch" = "technical", "risiko" = "accepted-risk" } }
accounts = "Konten"
rules = "Regel"
reason = "Grund"
asked-by = "Von"
approved-by = "Durch"
until = { from = "Bis", plain = "through" }
"""
HEAD = "Nr;Art;Konten;Regel;Grund;Von;Durch;Bis\n"
GOOD = [
    "EX 17;technisch;directory/counter-*;password-age;Tills are opened by staff card alone;ticketing;information security;28.02.2027",
    "EX/18;Risiko;n.arvstetter@gvr.example, directory/t.*;second-factor-asked;Her phone was lost on the glacier;ticketing;information security;15.12.2026",
    "old;technisch;gone-*;password-age;Machine that is long gone now;ticketing;information security;15.12.2020",
]


def listed(folder: Path, *rows: str, head: str = HEAD, text: str = MAP) -> tuple[str, ...]:
    (folder / "list.csv").write_text(head + "\n".join(rows) + "\n", "utf-8")
    (folder / "list.toml").write_text(text, "utf-8")
    return ("exempt", "import", "list.csv", "--map", "list.toml", *AT)


def test_a_list_is_entered_whole(railway: Path) -> None:
    """Named as the register names entries, for accounts by name or address; what is over is left out."""
    words = listed(railway, *GOOD)
    before = (railway / "exemptions.toml").read_text("utf-8")
    told = run(*words, "--dry-run", cwd=railway, expect=0).stdout
    assert "2 entries would be entered" in told
    assert (railway / "exemptions.toml").read_text("utf-8") == before
    told = run(*words, cwd=railway, expect=0).stdout
    assert "2 entries entered" in told and "left out: 1 entry that ended before now, old" in told
    after = (railway / "exemptions.toml").read_text("utf-8")
    assert after.startswith(before)
    entries = tomllib.loads(after)["exemption"]
    assert entries["ex-17"]["until"].isoformat() == "2027-03-01" and entries["ex-17"]["matched"] == 10
    assert entries["ex-18"]["accounts"][:2] == ["directory/n.arvstetter", "cloud/n.arvstetter"]
    assert entries["ex-18"]["kind"] == "accepted-risk" and "old" not in entries
    assert 'there is an entry "ex-17" already' in run(*words, cwd=railway, expect=2).stderr
    assert (railway / "exemptions.toml").read_text("utf-8") == after


@pytest.mark.parametrize(
    ("row", "said"),
    [
        (GOOD[0].replace("technisch", "egal"), 'list.csv:3: "Art": "egal"'),
        (GOOD[0].replace("28.02.2027", "demnächst"), 'list.csv:3: "Bis": "demnächst"'),
        (GOOD[0].replace("28.02.2027", ""), "list.csv:3: an exemption needs an end"),
        (
            GOOD[0].replace("counter", "kounter"),
            'list.csv:3: no account is called like "directory/kounter-*"',
        ),
        (GOOD[0].replace("password-age", "pasword-age"), 'list.csv:3: no rule is called like "pasword-age"'),
        (GOOD[0].replace("information security", "ticketing"), "list.csv:3: ticketing asked for it"),
        (GOOD[0].replace("Tills are opened by staff card alone", "ok"), 'list.csv:3: "ok" is no reason'),
        (GOOD[0].replace("EX 17", "ex-18"), 'list.csv:3: there is an entry "ex-18" already'),
        (GOOD[0].replace("EX 17", "§§§"), 'list.csv:3: "" cannot name an entry'),
        (GOOD[0].replace("EX 17", ""), "list.csv:3: no exemption"),
        (GOOD[0].replace("directory/counter-*", ""), "list.csv:3: it names no account"),
        (GOOD[0] + ";one cell more", "list.csv:3:"),
    ],
)
def test_one_fault_and_nothing_is_entered(railway: Path, row: str, said: str) -> None:
    """Every fault with the line it stands on."""
    before = (railway / "exemptions.toml").read_bytes()
    done = run(*listed(railway, GOOD[1], row), cwd=railway, expect=2)
    assert said in " ".join(done.stderr.split())
    assert (railway / "exemptions.toml").read_bytes() == before


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[account.columns]\nname = "Nr"\n', "the map says nothing about exemptions"),
        ('[exemption.columns]\nkind = "Art"\n', '"exemption" is missing'),
        (MAP.replace('"Grund"', '"Gründe"'), "Gründe"),
        ("", "names no table"),
    ],
)
def test_a_map_that_does_not_fit(railway: Path, text: str, said: str) -> None:
    assert said in run(*listed(railway, *GOOD, text=text), cwd=railway, expect=2).stderr
    (railway / "list.csv").write_text(HEAD, "utf-8")
    assert run("exempt", "import", "list.csv", "--map", "no.toml", *AT, cwd=railway, expect=2).stderr


def test_a_long_list_is_entered_at_once(railway: Path) -> None:
    """Two hundred entries take little longer than one: the register is written, and read, once."""
    rows = [GOOD[0].replace("EX 17", f"EX {number}") for number in range(200)]
    started = time.perf_counter()
    told = run(*listed(railway, *rows), cwd=railway, expect=0).stdout
    assert "200 entries entered" in told and time.perf_counter() - started < 30
    entries = tomllib.loads((railway / "exemptions.toml").read_text("utf-8"))["exemption"]
    assert [f"ex-{number}" for number in range(200)] == list(entries)[-200:]


def test_a_list_without_rows_is_none(railway: Path) -> None:
    assert "no rows" in run(*listed(railway), cwd=railway, expect=2).stderr


def test_fit_guesses_the_map_of_a_list(railway: Path) -> None:
    """In another language; what its first lines say to do works as it stands."""
    (railway / "ausnahmen.csv").write_text(LIST.replace("card; ticketing", "card alone;ticketing"), "utf-8")
    run("fit", "ausnahmen.csv", "--output", "ausnahmen.toml", cwd=railway, expect=0)
    head = (railway / "ausnahmen.toml").read_text("utf-8").splitlines()
    command = next(line for line in head if "exempt import" in line).lstrip("# ")
    told = run(*shlex.split(command)[1:], *AT, cwd=railway, expect=0).stdout
    assert "1 entry would be entered" in told and "10 accounts" in told
