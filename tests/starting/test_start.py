"""`keymallet start`: a folder becomes an estate that is judged, and nothing that is there is lost."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tarfile
import tomllib
from datetime import date
from pathlib import Path

import pexpect
import pytest
from filelock import FileLock

from keymallet.fitting.matching import SURE
from keymallet.starting.grouping import plan
from keymallet.starting.questions import MOST_QUESTIONS, questions
from keymallet.starting.survey import survey
from tests.profiles import first
from tests.starting.folders import FOLDERS, school
from tests.support import run, run_installed

TODAY = date(2026, 11, 24)
WRITTEN = {"estate.toml", "rulebook.toml", "exemptions.toml", "start-answers.toml"}


@pytest.mark.parametrize("name", first(2, FOLDERS))
def test_a_folder_becomes_a_judged_estate(name: str, tmp_path: Path) -> None:
    """In one command, with no file written by hand, at most six questions, and nothing sure and wrong."""
    folder = tmp_path / name
    folder.mkdir()
    FOLDERS[name][0](folder)
    done = run_installed("start", "--yes", cwd=folder)
    assert done.returncode in (0, 1, 3), done.stdout + done.stderr
    assert "what would tell most that no source reports" in done.stdout or name == "canal"
    assert {path.name for path in folder.glob("*.toml")} == WRITTEN
    _all_is_read(name, folder)
    _little_is_asked_and_nothing_is_sure_and_wrong(folder)
    _nothing_is_written_over(folder)


def _all_is_read(name: str, folder: Path) -> None:
    """All rows of all files are read, none refused, no cell left over."""
    (manifest,) = folder.glob("snapshots/*/manifest.json")
    sources = json.loads(manifest.read_text())["sources"]
    counts: dict[str, int] = {}
    for source in sources.values():
        for table, intake in source["intake"].items():
            assert (intake["refused"], intake["unreadable"], intake["strays"]) == (0, 0, 0), (
                name,
                table,
                intake,
            )
            counts[table] = counts.get(table, 0) + intake["read"]
    expected = FOLDERS[name][1]
    assert {table: counts.get(table) for table in expected} == expected


def _little_is_asked_and_nothing_is_sure_and_wrong(folder: Path) -> None:
    """At most six questions; columns that are sure bear the fact of their name in these folders."""
    made = plan(survey(folder, TODAY))
    assert len(questions(made, folder)) <= MOST_QUESTIONS
    parts = [part for source in made.sources for guess in source.guesses for part in guess.parts]
    sure = [match for part in parts for match in part.matches if match.sureness == SURE]
    right = {header.strip(): fact for fact, headers in RIGHT for header in headers.split(";")}
    assert not [(match.column.header, match.fact.name) for match in sure if match.column.header not in right]
    for match in sure:
        assert match.fact.name in right[match.column.header].split(), match.column.header


RIGHT = (
    (
        "name account",
        "Login; Anmeldename; Benutzername; signInName; Account; 1; Zugang; Benutzer; Inhaber; User name; User ID",
    ),
    (
        "name display",
        "Full name; Anzeigename; Nom complet; displayName; Vollständiger Name; Imię i nazwisko; Jméno a příjmení",
    ),
    ("mail account name", "E-mail; E-Mail; E-Mail-Adresse; email; Courriel; Adresse e-mail; Adres e-mail"),
    ("enabled status", "Enabled; Status; Actif; enabled; Active"),
    ("password-changed", "Password last set; Passwort geändert am; Password last changed"),
    ("last-sign-in", "Last logon; Dernière connexion; lastSignIn.at; Last login; Letzte Anmeldung"),
    ("created", "Date de création; createdAt"),
    ("ends", "Account expires; Ważne do"),
    ("expires", "Gültig bis"),
    ("issued", "Ausgestellt am"),
    ("locked", "Gesperrt"),
    ("person", "Personalnummer; Nr pracownika; Osobní číslo"),
    ("stable-id", "id"),
    ("location", "@file"),
    ("kind", "Method; Method type; Type de méthode"),
    ("registered", "Enrolled; Registered; Enregistré le"),
    ("role", "Role; Rolle; Rola"),
    ("starts", "Start; Seit"),
    ("key", "Schlüssel-ID"),
    ("at", "Zeitpunkt"),
    ("outcome", "Ergebnis"),
    ("joins", "Data zatrudnienia; Datum nástupu"),
    ("leaves", "Data zwolnienia; Datum odchodu"),
)
"""The facts that columns of these folders can be; those that are no fact stand nowhere here."""


def _nothing_is_written_over(folder: Path) -> None:
    """A second time it says what is there, and changes nothing."""
    before = {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    again = run_installed("start", "--yes", cwd=folder, expect=2)
    assert "already there, and not written over: estate.toml" in again.stderr
    assert {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()} == before


# as a person does it


def spawn(folder: Path, *words: str) -> pexpect.spawn[str]:
    """The installed program at a terminal; an interrupt reaches it, whatever started these tests."""
    program = Path(sys.executable).with_name("keymallet")
    return pexpect.spawn(
        str(program),
        ["start", *words],
        cwd=str(folder),
        encoding="utf-8",
        timeout=60,
        dimensions=(40, 100),
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """The school: a login that is not sure, and much that no export tells."""
    place = tmp_path / "hill-school"
    place.mkdir()
    school(place)
    return place


def test_questions_are_asked_one_at_a_time(folder: Path, tmp_path: Path) -> None:
    """Through a terminal: defaults, a wrong answer, choices by number and name; then replayed from the file."""
    child = spawn(folder)
    child.expect("What is the organisation called")
    child.expect("return: Hill School")
    child.sendline("")
    child.expect("time zone")
    child.sendline("Europe/Prag")
    child.expect('"Europe/Prag" is no time zone; did you mean "Europe/Prague"')
    child.sendline("Europe/Prague")
    child.expect("with which column do people sign in")
    child.sendline("Zugang")
    child.expect(r"Which does\s+that\s+system\s+not")
    child.sendline("1, elevation")
    child.expect(r"Which does\s+that\s+system\s+not")
    child.sendline("nine")
    child.expect('"nine" is none of the choices')
    child.sendline("none")
    child.expect("written in")
    child.expect("what would tell most")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus in (1, 3)
    estate = tomllib.loads((folder / "estate.toml").read_text("utf-8"))
    assert (estate["organisation"], estate["clock"]) == ("Hill School", "Europe/Prague")
    service = tomllib.loads((folder / "maps/service.toml").read_text("utf-8"))
    assert service["account"]["columns"]["name"] == "Zugang"
    maps = [tomllib.loads(path.read_text("utf-8")) for path in sorted(folder.glob("maps/*.toml"))]
    assert [each.get("absent") for each in maps].count(["elevation"]) == 1
    assert [each["account"].get("absent") for each in maps].count(["starts"]) == 1

    other = tmp_path / "again"
    other.mkdir()
    school(other)
    run_installed("start", "--answers", str(folder / "start-answers.toml"), cwd=other)
    for path in ("estate.toml", "maps/service.toml", "maps/pcs.toml", "start-answers.toml"):
        assert (other / path).read_text("utf-8") == (folder / path).read_text("utf-8")


@pytest.mark.parametrize("how", ["end", "interrupt"])
def test_who_goes_away_leaves_nothing_behind(folder: Path, how: str) -> None:
    """An end of input or an interrupt while it asks: nothing is written."""
    child = spawn(folder)
    child.expect("return: Hill School.*> ")
    child.delaybeforesend = (
        0.5  # an interrupt between a prompt and the reading of its answer is one too early
    )
    child.sendeof() if how == "end" else child.sendintr()
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == (2 if how == "end" else 130)
    assert not (folder / "estate.toml").exists() and not (folder / "maps").exists()


def test_with_nobody_there_it_says_how_to_answer(folder: Path) -> None:
    """Nor does it take defaults that nobody asked for."""
    done = run_installed("start", cwd=folder, expect=2)
    assert "questions are open, and nobody is there to answer" in done.stderr and "--yes" in done.stderr
    assert run_installed("start", "--look", cwd=folder, expect=0).stdout.count("service.csv") == 1
    assert not (folder / "estate.toml").exists()


@pytest.mark.parametrize(
    ("answers", "message"),
    [
        ('clock = "Mars/Base"', "is no time zone"),
        ('clok = "UTC"', "clok"),
        ('[login]\n"service.csv" = "Zugan"', '"Zugan" is none of the choices; did you mean "Zugang"'),
        ('[absent]\nservices = ["key"]', 'nothing like "absent services" is asked here'),
        ('[absent]\nservice = ["keys"]', '"keys" is none of the choices'),
    ],
)
def test_answers_that_are_none(folder: Path, answers: str, message: str) -> None:
    """Told with file and line, and nothing is written."""
    (folder / "answers.toml").write_text(answers, "utf-8")
    done = run_installed("start", "--answers", "answers.toml", cwd=folder, expect=2)
    assert message in " ".join(done.stderr.split()) and "answers.toml:" in done.stderr
    assert not (folder / "estate.toml").exists()


# what else lies about


def test_a_folder_of_nothing_usable(tmp_path: Path) -> None:
    """It says of each file what is wrong with it, and shows no word of a password list."""
    (tmp_path / "list.txt").write_text("S3cret-Word\nOther+1\nHunter2x\n")
    (tmp_path / "a.pdf").write_bytes(b"%PDF-1.7 ...")
    done = run("start", "--yes", cwd=tmp_path, expect=2)
    assert "nothing here can be judged" in done.stderr
    assert "what may be passwords" in done.stdout and "Hunter2x" not in done.stdout + done.stderr
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.pdf", "list.txt"]


def test_an_archive_cannot_write_beside_its_host(tmp_path: Path) -> None:
    """A path that leads out of it, or a link that does: refused, and nothing is left behind."""
    work = tmp_path / "work"
    work.mkdir()
    with tarfile.open(work / "evil.tar.gz", "w:gz") as archive:
        for name, data in (("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"), ("../../../escaped", b"x")):
            member = tarfile.TarInfo(name)
            member.size = len(data)
            archive.addfile(member, io.BytesIO(data))
    done = run("start", "--yes", cwd=work, expect=2)
    assert "evil.tar.gz" in done.stderr and "cannot be unpacked" in done.stderr
    assert not (tmp_path / "escaped").exists() and [path.name for path in work.iterdir()] == ["evil.tar.gz"]


def test_what_a_system_is_set_to_is_asked_for(tmp_path: Path) -> None:
    """Settings say nothing of whose they are: with one system it is clear, with two somebody has to say."""
    settings = "Policy,Min length,History\nAll,12,8\nAdmins,16,24\n"
    (tmp_path / "settings.csv").write_text(settings)
    for name in ("crew", "port"):
        (tmp_path / f"{name}.csv").write_text(
            f"Login,Display name {name}\n" + "".join(f"{name}{n},A B\n" for n in range(4))
        )
    (tmp_path / "answers.toml").write_text(
        'organisation = "O"\nclock = "UTC"\n[of]\n"settings.csv" = "port"\n'
    )
    done = run("start", "--answers", "answers.toml", cwd=tmp_path)
    assert "settings.csv tells settings, and not of which system" in done.stdout
    estate = tomllib.loads((tmp_path / "estate.toml").read_text("utf-8"))
    assert estate["source"]["port"]["files"] == {"account": "port.csv", "setting": "settings.csv"}
    assert "read 4 accounts, 2 settings" in " ".join(done.stdout.split())


def test_rows_that_find_nobody_are_shown(tmp_path: Path) -> None:
    """By which column they would match, and how many do not."""
    (tmp_path / "users.csv").write_text("Login,Mail\n" + "".join(f"u{n},u{n}@x.example\n" for n in range(8)))
    (tmp_path / "keys.csv").write_text(
        "Key ID,Owner,Issued\n"
        + "".join(f"k{n},u{n}@x.example,2026-01-1{n}\n" for n in range(3))
        + "k9,gone@x.example,2026-01-20\n"
    )
    done = run("start", "--look", cwd=tmp_path, expect=0)
    told = 'keys.csv goes with users: "Owner" holds their mail addresses; 1 name of nobody there'
    assert f"{told}, such as gone@x.example" in " ".join(done.stdout.split())
    again = run("fit", "keys.csv", "users.csv", cwd=tmp_path, expect=0)
    assert told in " ".join(again.stdout.split())
    assert "no such file" in run("fit", "keys.csv", "user.csv", cwd=tmp_path, expect=2).stderr
    refused = run("fit", "keys.csv", "users.csv", "--output", "m.toml", cwd=tmp_path, expect=2)
    assert "--output is for one file" in refused.stderr


def test_odd_names_loops_and_capitals(tmp_path: Path) -> None:
    """A link that leads round, a pipe, a name full of signs, logins written in capitals elsewhere."""
    (tmp_path / 'it\'s, "odd" [1].csv').write_text(
        "Login;Mail\n" + "".join(f"u{n};u{n}@x.example\n" for n in range(4))
    )
    (tmp_path / "keys.csv").write_text("Key ID,Owner,Issued\nk1,U1,2026-01-14\nk2,u2,2026-02-15\n")
    (tmp_path / "round").symlink_to(tmp_path)
    os.mkfifo(tmp_path / "pipe")
    done = run("start", "--yes", cwd=tmp_path)
    assert "round" not in done.stdout and done.stdout.count("not used: pipe") == 1
    assert '"Owner" holds their login names, in other letters' in " ".join(done.stdout.split())
    assert "read 4 accounts, 2 keys" in done.stdout
    map_ = tomllib.loads((tmp_path / "maps/it-s-odd-1.toml").read_text("utf-8"))
    assert map_["key"]["columns"]["account"] == {"from": "Owner", "ignore-case": True}


def test_who_finds_it_locked_leaves_the_lock(folder: Path) -> None:
    """The lock is the other's: a third one must find it too."""
    lock = folder / ".keymallet-start.lock"
    with FileLock(lock):
        assert "another start" in run("start", "--yes", cwd=folder, expect=2).stderr
        assert lock.exists() and not (folder / "estate.toml").exists()


def test_two_at_once_make_one_estate(folder: Path) -> None:
    """One of them makes it, the other says that it is there, or being made; no file is of both."""
    program = Path(sys.executable).with_name("keymallet")
    both = [
        subprocess.Popen(
            [str(program), "start", "--yes"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
        )
        for _ in range(2)
    ]
    told = [each.communicate(timeout=120)[1].decode() for each in both]
    codes = {each.returncode for each in both}
    assert 2 in codes and codes & {1, 3}, told
    assert any("already there" in each or "another start" in each for each in told)
    assert (folder / "estate.toml").exists() and not list(folder.glob(".*"))


@pytest.mark.parametrize("in_the_way", ["maps", "rulebook.toml"])
def test_what_is_in_the_way_leaves_all_as_it_was(folder: Path, in_the_way: str) -> None:
    """A file where a folder should be, or one of the same name: nothing half made is left."""
    (folder / in_the_way).write_text("mine")
    before = sorted(path for path in folder.rglob("*"))
    done = run("start", "--yes", cwd=folder, expect=2)
    assert in_the_way in done.stderr
    assert (
        sorted(path for path in folder.rglob("*")) == before and (folder / in_the_way).read_text() == "mine"
    )


def test_a_disk_that_takes_no_more_leaves_nothing_half_made(folder: Path) -> None:
    """It says so, and takes away what it had written: files may have 1 KiB here, which a rulebook exceeds."""
    before = sorted(folder.rglob("*"))
    program = Path(sys.executable).with_name("keymallet")
    words = ["bash", "-c", f"ulimit -f 1; exec {program} start --yes"]
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 2 and "File too large" in done.stderr, done.stderr
    assert sorted(folder.rglob("*")) == before


def test_files_of_one_shape_and_of_several(tmp_path: Path) -> None:
    """Parts of one export are read once each, wider ones by their own part; old versions are left out."""
    people = {
        f"crew-{part}.csv": "".join(f"{part}{n},{part}{n}@x.example,yes\n" for n in range(3)) for part in "ab"
    }
    for name, rows in people.items():
        (tmp_path / name).write_text("Login,Mail,Enabled\n" + rows)
    (tmp_path / "roles-1.csv").write_text("Login,Role\na0,Reader\nb1,Reader\n")
    (tmp_path / "roles-2.csv").write_text("Login,Role\na1,Writer\n")
    (tmp_path / "roles-3.csv").write_text("Login,Role,Until\nb0,Writer,2027-01-31\n")
    (tmp_path / "old").mkdir()
    for month in ("2026-08", "2026-09", "2026-10"):
        (tmp_path / "old" / f"{month}.csv").write_text("Account,Active\nx1,yes\nx2,no\n")
    done = run("start", "--yes", cwd=tmp_path)
    said = " ".join(done.stdout.split())
    assert "read 6 accounts, 4 grants" in said and "listings" not in said
    assert said.count("the same accounts as old/2026-") == 2


def test_no_secret_is_offered_as_a_login(tmp_path: Path) -> None:
    """Where the login is asked for, columns are shown with values: those of passwords are not among them."""
    rows = "".join(f"u{n}@x.example,acc{n},Winter{n}moon,qwe{n}rty\n" for n in range(5))
    (tmp_path / "users.csv").write_text(f"E-mail,Zugang,Initial password,PIN\n{rows}")
    (login,) = [
        each for each in questions(plan(survey(tmp_path, TODAY)), tmp_path) if each.about[0] == "login"
    ]
    assert login.choices is not None and list(login.choices) == ["E-mail", "Zugang"]


# the page


@pytest.mark.deep
def test_the_first_hour_by_its_own_commands(railway_snapshot: Path, tmp_path: Path) -> None:
    """Every command of the page, in its order, as it stands there; services of nobody are left out."""
    page = (Path(__file__).parents[2] / "docs/first-hour.md").read_text("utf-8")
    blocks = re.findall(r"```sh\n(.*?)```", page, re.DOTALL)
    lines = [line for block in blocks for line in block.splitlines() if "start add" not in line]
    lines.remove("keymallet demo railway")  # a day of its own, which other tests live through
    shutil.copytree(railway_snapshot, tmp_path / "railway")
    asking = lines.index("keymallet start exports")
    lines[asking] += " --yes"
    told = {}
    folder = tmp_path
    for line in lines:
        if line.startswith("cd "):
            folder = folder / line[3:]
            continue
        program = Path(sys.executable).parent
        done = subprocess.run(
            line, shell=True, cwd=folder, capture_output=True, text=True, check=False,
            env={**os.environ, "PATH": f"{program}:{os.environ['PATH']}"},
        )  # fmt: skip
        assert done.returncode in (0, 1, 3) and "Traceback" not in done.stderr, (line, done.stderr)
        told[line.partition("#")[0].strip()] = done.stdout
    assert "written in exports: estate.toml" in told["keymallet start exports --yes"]
    assert "breaches" in told["keymallet judge"]
    assert (folder / "refused.csv").read_text("utf-8")


def test_a_list_of_exemptions_is_no_source(railway_snapshot: Path, tmp_path: Path) -> None:
    """Whoever is exempt is said in the register alone; start says how it gets there."""
    for path in ("exceptions.csv", "exports/accounts.csv"):
        shutil.copy(railway_snapshot / path, tmp_path)
    told = " ".join(run("start", "--yes", cwd=tmp_path).stdout.split())
    assert (
        "not used: exceptions.csv: a list of exemptions" in told
        and "keymallet exempt import enters it" in told
    )
    assert (
        "exemption"
        not in tomllib.loads((tmp_path / "estate.toml").read_text("utf-8"))["source"]["accounts"]["files"]
    )
    assert "39 rules cannot be judged, since no source reports a staff roster (6)" in told


def test_an_export_of_gigabytes_is_sampled(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As if 20 kB were very much: its beginning is looked at, the rest is left to `read`."""
    monkeypatch.setattr("keymallet.fitting.sample._LARGEST_WHOLE", 20_000)
    monkeypatch.setattr("keymallet.fitting.sample.LARGE", 20_000)
    monkeypatch.setattr("keymallet.fitting.pieces._FIRST", 5_000)
    monkeypatch.setattr("keymallet.fitting.pieces._PIECE", 500)
    rows = "".join(f"u{number},u{number}@x.example,yes\n" for number in range(5_000))
    (tmp_path / "accounts.csv").write_text("Login,Mail,Enabled\n" + rows)
    told = " ".join(run("fit", "accounts.csv", cwd=tmp_path, expect=0).stdout.split())
    assert "bytes were looked at" in told
    assert "tried on the whole file" not in told
    monkeypatch.setattr("keymallet.commands.start._READ_AT_ONCE", 50_000)
    told = " ".join(run("start", "--yes", cwd=tmp_path, expect=0).stdout.split())
    assert "more than" in told and "with exports as large as these it takes its time" in told
    assert "5,000 accounts" in run("read", cwd=tmp_path).stdout
