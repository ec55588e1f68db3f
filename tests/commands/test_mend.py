"""`keymallet mend`: what is proposed, what trying it says, and what comes of really doing it."""

from __future__ import annotations

import csv
import io
import random
import shlex
import subprocess
from pathlib import Path

import pytest

from keymallet.commands.judging_inputs import open_inputs
from keymallet.commands.parsers import parser_of
from keymallet.commands.relinking import relinked
from keymallet.core.mending.trial import KNOWN_BY, breaches
from tests.mended import rule
from tests.support import PROGRAM, run, write

AT = ("--at", "2026-11-24T09:00Z")
Breach = tuple[str, str, str]


def broken(folder: Path) -> dict[Breach, str]:
    """The breaches that judging finds, each with its id."""
    told = run("judge", *AT, "--format", "csv", cwd=folder).stdout
    return {
        (row["rule"], row["account"], row["subject"]): row["finding-id"]
        for row in csv.DictReader(io.StringIO(told))
        if row["verdict"] == "breach"
    }


def worksheets(folder: Path) -> list[dict[str, str]]:
    return [
        row
        for path in sorted(folder.glob("*.csv"))
        for row in csv.DictReader(io.StringIO(path.read_text("utf-8-sig")))
    ]


def test_evidence_linked_anew_is_judged_the_same(
    railway_snapshot: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every breach of the railway, people, numbers and what is in force included."""
    monkeypatch.chdir(railway_snapshot)
    inputs = open_inputs(parser_of("judge").parse_args([*AT]))
    kept, anew = (breaches(inputs.judge(each)) for each in (inputs.evidence(), relinked(inputs)))
    assert kept.height > 200
    assert not kept.join(anew, on=KNOWN_BY, how="anti", nulls_equal=True).height
    assert not anew.join(kept, on=KNOWN_BY, how="anti", nulls_equal=True).height


def _carry_out(folder: Path, changes: list[dict[str, str]]) -> None:
    """Make the changes in the directory's exports, as its administrator would in the directory."""
    exports = folder / "exports"
    tables = {
        name: list(csv.reader(io.StringIO((exports / name).read_text("utf-8-sig")), delimiter=";"))
        for name in ("accounts.csv", "keys.csv", "roles.csv")
    }

    def put(name: str, row: list[str], column: str, value: str) -> None:
        row[tables[name][0].index(column)] = value

    for change in changes:
        login = change["account"].removeprefix("directory/")
        (account,) = (row for row in tables["accounts.csv"] if row and row[0] == login)
        match change["fact"]:
            case "account.enabled":
                put("accounts.csv", account, "Status", "Disabled")
            case "account.password-must-change":
                for column, value in (
                    ("Password set", "24.11.2026 10:00"),
                    ("Handed-out password", "no"),
                    ("Change asked", "no"),
                ):
                    put("accounts.csv", account, column, value)
            case "key.state":
                (key,) = (
                    row
                    for row in tables["keys.csv"]
                    if len(row) > 1 and row[1] and row[1] in change["subject"]
                )
                put("keys.csv", key, "State", "Revoked")
            case "grant.role":
                held = [row for row in tables["roles.csv"] if row[:2] == [login, change["now"]]]
                tables["roles.csv"].remove(held[0])
    for name, rows in tables.items():
        text = io.StringIO(newline="")
        csv.writer(text, delimiter=";", lineterminator="\n").writerows(rows)
        (exports / name).write_text(text.getvalue(), "utf-8-sig")


@pytest.mark.parametrize(
    "seed", [1, pytest.param(2, marks=pytest.mark.deep), pytest.param(3, marks=pytest.mark.deep)]
)
def test_what_trying_says_is_what_doing_brings(railway: Path, seed: int) -> None:
    """A dozen findings of the directory are mended in its exports, read and judged: just what was said comes true."""
    before = broken(railway)
    kinds = ("idle", "key-", "standing", "password", "left-still", "ended-still", "privilege", "invitation")
    likely = sorted(
        finding for (rule, account, _), finding in before.items()
        if account.startswith("directory/") and rule.startswith(kinds)
    )  # fmt: skip
    chosen = random.Random(seed).sample(likely, 12)
    words = [word for each in chosen for word in ("--finding", each)]
    told = run("mend", *words, *AT, "--into", "out", "--even-if-it-breaks", cwd=railway).stdout
    changes = [row for row in worksheets(railway / "out") if row["fact"]]
    assert changes and all(row["account"].startswith("directory/") for row in changes)
    _carry_out(railway, changes)
    run("read", *AT, cwd=railway)
    after = broken(railway)
    ended, came = before.keys() - after.keys(), after.keys() - before.keys()
    assert f"{len(ended)} finding{'s' * (len(ended) != 1)} ended · {len(came)} newly broken" in told
    mended = {finding for row in changes for finding in row["findings"].split()}
    assert mended <= {before[each] for each in ended}


HOUSE = {
    "estate.toml": 'organisation = "House"\nclock = "UTC"\nrulebook = "b.toml"\n[source.d]\nread = "csv"\nmap = "m.toml"\n'
    'files = { account = "a.csv" }\n',
    "m.toml": '[account.columns]\nname = "l"\nkind = "k"\nenabled = "e"\nlast-sign-in = "s"\nhas-password = { always = true }\n',
    "a.csv": "l,k,e,s\nglass-1,emergency,yes,2025-01-01T00:00:00Z\nglass-2,emergency,yes,2026-11-20T00:00:00Z\n"
    "anna,person,yes,2025-01-01T00:00:00Z\n=1+1,person,yes,2025-01-01T00:00:00Z\n",
    "b.toml": 'title = "B"\n[rule.idle]\ntitle = "Idle"\nwho = "enabled"\nmust = "age(last-sign-in) <= 90d"\nseverity = "high"\n'
    'mend = "switch-off"\nadvice = "Disable it."\n[tally.spare]\ntitle = "Two"\ncount = "kind = emergency and enabled"\n'
    'between = [2, 4]\nseverity = "critical"\nadvice = "Keep two."\nmend = "review"\n',
}


@pytest.fixture
def house(tmp_path: Path) -> Path:
    """Four accounts that nobody uses, one of them one of two for emergencies."""
    write(tmp_path, HOUSE)
    run("read", *AT, cwd=tmp_path, expect=0)
    return tmp_path


def test_what_would_shut_out_the_last_is_set_aside(house: Path) -> None:
    """Of two emergency accounts one is idle: to disable it would leave one, which is worse than what it mends."""
    told = run("mend", "--all", *AT, "--into", "out", cwd=house, expect=1).stdout
    assert "2 findings ended · 0 newly broken · 1 set aside" in told
    assert "disable d/glass-1: would break spare" in told
    assert {row["account"] for row in worksheets(house / "out")} == {"d/anna", "d/=1+1"}
    assert "## Set aside" in (house / "out/README.md").read_text()
    forced = run("mend", "--all", *AT, "--preview", "--even-if-it-breaks", cwd=house, expect=1).stdout
    assert "3 findings ended · 1 newly broken · 0 set aside" in forced and "spare: a number" in forced


def test_the_way_back_is_told_and_nothing_is_changed(house: Path) -> None:
    """Each change says the fact as it is; a folder for its owner alone; the evidence is what it was."""
    before = sorted((path, path.read_bytes()) for path in (house / "snapshots").rglob("*") if path.is_file())
    run("mend", "--account", "anna", *AT, "--into", "out", cwd=house, expect=0)
    (row,) = worksheets(house / "out")
    assert (row["fact"], row["now"], row["then"]) == ("account.enabled", "yes", "no")
    assert row["way back"] == "switch it on again (enabled: yes)" and row["what to do"] == "disable d/anna"
    assert (house / "out").stat().st_mode & 0o077 == 0 and (house / "out/d.csv").stat().st_mode & 0o077 == 0
    assert before == sorted(
        (path, path.read_bytes()) for path in (house / "snapshots").rglob("*") if path.is_file()
    )
    run("mend", "--account", "anna", *AT, "--preview", cwd=house, expect=0)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--preview",), "which findings are to be mended?"),
        (("--all",), "where are the changes to be written?"),
        (("--all", "--preview", "--into", "x"), "--preview writes nothing"),
        (("--all", "--into", "snapshots"), "something is in this folder already"),
        (("--all", "--into", "a.csv"), "this is a file, not a folder"),
        (("--rule", "idl", "--preview"), 'did you mean "idle"?'),
        (("--finding", "ffff", "--preview"), 'no finding in breach has the id "ffff"'),
        (("--answerer", "Nobody", "--preview"), 'nobody called "Nobody" answers for a breach'),
        (("--account", "glass-2", "--preview"), "no finding that is in breach is among these"),
        (("--account", "nobody", "--preview"), 'there is no account "nobody"'),
    ],
)
def test_what_is_wrong_is_said(house: Path, words: tuple[str, ...], told: str) -> None:
    """And nothing is written."""
    before = sorted(path.name for path in house.iterdir())
    assert told in " ".join(run("mend", *words, *AT, cwd=house, expect=2).stderr.split())
    assert sorted(path.name for path in house.iterdir()) == before


def test_old_evidence_is_refused_unless_told(house: Path) -> None:
    """By the estate's own word for how old evidence may get; other sources may be as old as they like."""
    estate = (
        (house / "estate.toml").read_text().replace('read = "csv"\n', 'read = "csv"\nstale-after = "36h"\n')
    )
    (house / "estate.toml").write_text(estate)
    late = ("--at", "2026-11-27T09:00Z", "--account", "anna", "--preview")
    told = run("mend", *late, cwd=house, expect=2).stderr
    assert "too old to change anything by it" in told and "--even-if-old" in told
    run("mend", *late, "--even-if-old", cwd=house, expect=3)


def test_changes_tells_which_proposals_worked(house: Path) -> None:
    """One is made, one is not; of one nobody can tell, since its source was not read again."""
    (house / "estate.toml").write_text('logbook = "logbook"\n' + (house / "estate.toml").read_text())
    run("judge", *AT, "--record", cwd=house)
    run("mend", "--rule", "idle", *AT, "--into", "out", cwd=house, expect=1)
    stands = run("changes", "--proposals", "out", cwd=house, expect=1).stdout
    assert "2 proposals, as of run 1" in stands and "2 stands" in stands
    accounts = (house / "a.csv").read_text().replace("anna,person,yes", "anna,person,no")
    (house / "a.csv").write_text(accounts)
    later = ("--at", "2026-11-25T09:00Z")
    run("read", *later, cwd=house)
    run("judge", *later, "--record", cwd=house)
    told = run("changes", "--proposals", "out", "--format", "csv", cwd=house, expect=1).stdout
    results = {row["account"]: row["result"] for row in csv.DictReader(io.StringIO(told))}
    assert results == {"d/anna": "mended", "d/=1+1": "stands"}
    for path, words in (("snapshots", "no worksheet is there"), (".", "this is no worksheet")):
        told = run("changes", "--proposals", path, cwd=house, expect=2).stderr
        assert words in " ".join(told.split())


LIGHTS = {
    "estate.toml": 'organisation = "Lights"\nclock = "UTC"\nrulebook = "b.toml"\n[source.l]\nread = "csv"\nmap = "m.toml"\n'
    'files = { account = "a.csv", grant = "g.csv", key = "k.csv", factor = "f.csv" }\n',
    "m.toml": '[account.columns]\nname = "l"\nkind = "k"\nenabled = "e"\nlast-sign-in = "s"\nhas-password = { always = true }\n'
    '[grant.columns]\naccount = "l"\nrole = "r"\nprivileged = { always = true }\nmode = { always = "standing" }\nends = { from = "e", plain = "until" }\n'
    '[key.columns]\naccount = "l"\nkey = "id"\nkind = { always = "api-key" }\nissued = "i"\nstate = { always = "active" }\n'
    '[factor.columns]\naccount = "l"\nkind = "f"\nstate = { always = "active" }\n',
    "a.csv": "l,k,e,s\nglass1,emergency,yes,2025-01-01T00:00:00Z\nglass2,emergency,yes,2025-01-01T00:00:00Z\n"
    "adm1,person,yes,2026-11-20T00:00:00Z\nadm2,person,yes,2026-11-20T00:00:00Z\nsvc,service,yes,2026-11-20T00:00:00Z\n"
    "lone,person,yes,2026-11-20T00:00:00Z\n",
    "g.csv": "l,r,e\nadm1,master,\nadm2,master,\n",
    "k.csv": "l,id,i\nsvc,K1,2024-01-01T00:00:00Z\n",
    "f.csv": "l,f\nlone,sms\nlone,password\n",
}


LIGHT_RULES = (
    rule("idle", "age(last-sign-in) <= 90d", "high", "switch-off", who="kind = emergency and enabled")
    + rule("power", "ends is known", "high", "remove-grant", each="grant")
    + rule("old-key", "age(issued) <= 365d", "medium", "revoke-key", each="key", who="state = active")
    + rule("sms", "kind != sms", "medium", "remove-factor", each="factor")
    + rule("svc", "some key (state = active)", "high", "review", who="kind = service")
    + rule("second", "some factor (kind != password)", "high", "enrol-factor", who="name = 'lone'")
)


def _tally(name: str, count: str, least: int, *more: str) -> str:
    told = [
        f"count = {count!r}",
        f"between = [{least}, 9]",
        "severity = 'critical'",
        "advice = 'Do.'",
        "mend = 'review'",
    ]
    return "\n".join([f"[tally.{name}]", f"title = {name!r}", *told, *more, ""])


@pytest.mark.parametrize(
    ("glass", "masters", "by", "aside"),
    [
        pytest.param(1, 1, (), {"disable l/glass2", "l/adm2"}, marks=pytest.mark.deep),
        pytest.param(
            2, 2, (), {"disable l/glass1", "disable l/glass2", "l/adm1", "l/adm2"}, marks=pytest.mark.deep
        ),
        (3, 3, (), {"disable l/glass1", "disable l/glass2", "l/adm1", "l/adm2"}),
        (1, 1, ('by = "source"',), {"disable l/glass2", "l/adm2"}),
        pytest.param(0, 0, (), set(), marks=pytest.mark.deep),
    ],
    ids=["the last one stays", "none can go", "too few already", "for each source", "none is wanted"],
)
def test_the_last_of_each_sort_stays(
    tmp_path: Path, glass: int, masters: int, by: tuple[str, ...], aside: set[str]
) -> None:
    """Numbers over accounts and over rights: as many may go as can be spared; the only key and factor stay as well."""
    book = 'title = "B"\n' + LIGHT_RULES + _tally("glass", "kind = emergency and enabled", glass, *by)
    book += _tally("masters", "role = 'master'", masters, 'each = "grant"', *by)
    write(tmp_path, {**LIGHTS, "b.toml": book})
    run("read", *AT, cwd=tmp_path, expect=0)
    told = run("mend", "--all", *AT, "--preview", cwd=tmp_path, expect=1).stdout
    kept = {
        line.strip().split(": would break")[0].split(": remove")[0]
        for line in told.splitlines()
        if ": would break" in line
    }
    assert kept == aside | {"l/svc api-key K1: revoke API key K1", "l/lone sms active"}
    assert "0 newly broken" in told
    forced = run("mend", "--all", *AT, "--preview", "--even-if-it-breaks", cwd=tmp_path, expect=1).stdout
    assert ("glass: " in forced) == (glass > 0) and ("masters: " in forced) == (masters > 0)


def test_what_cannot_be_written_whole_is_not_written(house: Path) -> None:
    """A full disk leaves no half of the changes without the page that says what goes first."""
    words = shlex.join([str(PROGRAM), "mend", "--account", "anna", *AT, "--into", "out"])
    limited = ["sh", "-c", f"ulimit -f 1; exec {words}"]
    done = subprocess.run(limited, cwd=house, capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "out/README.md: the file cannot be written" in done.stderr
    assert not (house / "out").exists()


def test_what_another_change_makes_needless_is_said(house: Path) -> None:
    """A new password for an account that is to be switched off; not where that is set aside."""
    more = rule("seldom", "age(last-sign-in) <= 300d", "low", "change-password", who="enabled")
    (house / "b.toml").write_text((house / "b.toml").read_text() + more)
    told = run("mend", "--all", *AT, "--into", "out", cwd=house, expect=1).stdout
    part = told.partition("needless, if the account is switched off as proposed\n")[2].partition("\n\n")[0]
    assert {line.rpartition(" ")[2] for line in part.splitlines()} == {"d/anna", "d/=1+1"}
    assert "## Needless" in (house / "out/README.md").read_text()
