"""Password ageing and the end of accounts: agrees with the system's own answer on every corner."""

from __future__ import annotations

import itertools
import re
import shutil
import subprocess
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from keymallet.sources.host.lines import parse_shadow
from keymallet.sources.shared.ageing import Pam, of_shadow
from tests.oracles import fake_clock, needs_root, program
from tests.support import write

OK, MUST_CHANGE, ENDED, BARRED = 0, 12, 13, 27
TOO_SOON = 20  # to change the password again: signing in is let be
TODAY = 20_781  # 2026-11-24
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def answer(line: str, at: datetime, pam: Pam) -> int:
    """What the facts of a shadow line come to at an instant, as PAM's own code."""
    facts = of_shadow(parse_shadow(line), pam, (at - EPOCH).days)

    def over(name: str) -> bool:
        return facts[name] is not None and facts[name] <= at

    if not facts["enabled"] or over("ends"):
        return ENDED
    if facts["password-must-change"] and parse_shadow(line).last_change == 0:
        return MUST_CHANGE
    if over("password-lapses"):
        return BARRED
    return MUST_CHANGE if facts["password-must-change"] or over("password-expires") else OK


@pytest.mark.parametrize(
    ("fields", "of_15", "of_17"),
    [
        ("{today}:0:90:7:::", OK, OK),
        ("{minus90}:0:90:7:::", OK, MUST_CHANGE),
        ("{minus91}:0:90:7:::", MUST_CHANGE, MUST_CHANGE),
        ("{minus90}:0:90:7:0::", OK, BARRED),
        ("{minus91}:0:90:7:0::", BARRED, BARRED),
        ("{minus100}:0:90:7:10::", MUST_CHANGE, BARRED),
        ("{minus101}:0:90:7:10::", BARRED, BARRED),
        ("0:0:90:7:0::", MUST_CHANGE, MUST_CHANGE),
        (":0:90:7:::", MUST_CHANGE, OK),
        (":0:90:7:10::", BARRED, OK),
        (":0:99999:7:::", OK, OK),
        ("{today}:0:0:7:::", OK, MUST_CHANGE),
        ("1:0:10000:7:::", MUST_CHANGE, MUST_CHANGE),
        ("15000:0::7:5::", OK, OK),
        ("{plus5}:0:0:7:::", OK, OK),
        ("{today}:0:90:7::{today}:", ENDED, ENDED),
        ("{today}:0:90:7::{plus1}:", OK, OK),
        ("{today}:0:90:7::0:", ENDED, ENDED),
        ("{today}:0:90:7::1:", ENDED, ENDED),
        ("0:0:90:7::{today}:", ENDED, ENDED),
        ("{minus91}:100:90:7:::", MUST_CHANGE, MUST_CHANGE),
        # beyond 31 bits numbers are negative: PAM 1.5 counts with them, PAM 1.7 takes them for none
        ("{today}:0:90:7::4294967294:", ENDED, OK),
        ("{today}:0:90:7::4294967295:", OK, OK),
        ("2147483648:0:90:7:::", MUST_CHANGE, OK),
        ("2147483648:0:90:7:5::", BARRED, OK),
        ("{minus100}:0:90:7:2147483648::", BARRED, MUST_CHANGE),
        ("{minus100}:0:2147483648:7:::", MUST_CHANGE, OK),
        ("-0:0:90:7:::", MUST_CHANGE, MUST_CHANGE),
    ],
)
def test_measured_boundaries(fields: str, of_15: int, of_17: int) -> None:
    """The two releases' answers as measured, at the first second of the day and at its last."""
    days = {"today": TODAY, "plus1": TODAY + 1, "plus5": TODAY + 5}
    days |= {f"minus{each}": TODAY - each for each in (90, 91, 100, 101)}
    line = "u:*:" + fields.format(**days)
    for at in (EPOCH + timedelta(days=TODAY), EPOCH + timedelta(days=TODAY + 1, seconds=-1)):
        assert (answer(line, at, "1.5"), answer(line, at, "1.7")) == (of_15, of_17)


def corners(today: int) -> list[str]:
    """Shadow lines over all corners of the day fields, named in turn."""
    ages = ["", 0, today - 90, today - 91, today - 100, today - 101, today, today + 3]
    some = [
        *itertools.product(ages, ["", 0, 90, 10_000, 99_999], ["", 0, 1, 10], ["", today]),
        *itertools.product(ages, [90], [10], [0, 1, today - 1, today + 1]),
    ]
    lines = [
        f"t{number}:*:{changed}:0:{maximum}:7:{inactive}:{end}:"
        for number, (changed, maximum, inactive, end) in enumerate(some)
    ]
    return [
        *lines,
        "few:*:20000:0:90",
        f"eight:*:{today}:0:90:7:5:{today + 1}",
        f"blank:*: {today - 91}:+0:90:7:::",
    ]


def checker_in_a_root(folder: Path, lines: list[str]) -> str:
    """Make a root with the system's own checker and these accounts in it; return the checker's path there."""
    checker, clock = program("unix_chkpwd"), fake_clock()
    listed = subprocess.run(["ldd", checker, str(clock)], capture_output=True, text=True, check=True).stdout
    for library in {*re.findall(r"(/\S+) \(0x", listed), checker}:
        target = folder / library.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(library, target)
    shutil.copy(clock, folder / "clock.so")
    # A program that runs for another group heeds no preloaded library.
    (folder / checker.lstrip("/")).chmod(0o755)
    accounts = [f"{line.split(':')[0]}:x:{5000 + place}:5000::/:/bin/sh" for place, line in enumerate(lines)]
    files = {
        "etc/passwd": ["root:x:0:0::/:/bin/sh", *accounts],
        "etc/shadow": lines,
        "etc/group": ["root:x:0:"],
        "etc/nsswitch.conf": ["passwd: files", "shadow: files"],
    }
    write(folder, {name: "".join(f"{line}\n" for line in each) for name, each in files.items()})
    return checker


def asked(root: Path, checker: str, name: str, at: datetime) -> int:
    """The checker's exit code for an account, at a clock that stands still at `at`."""
    clock = {"LD_PRELOAD": "/clock.so", "FAKETIME": f"{at:%Y-%m-%d %H:%M:%S}", "TZ": "UTC0"}
    words = [program("chroot"), str(root), checker, name, "chkexpiry"]
    done = subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, env=clock, check=False)
    return OK if done.returncode == TOO_SOON else done.returncode


def test_agrees_with_the_systems_own_checker(tmp_path: Path) -> None:
    """Over 300 accounts, at six instants around the boundaries: the code of `unix_chkpwd` at that time."""
    needs_root("unix_chkpwd in a root of its own")
    lines = corners(TODAY)
    assert len(lines) > 300
    checker = checker_in_a_root(tmp_path, lines)
    pam = pam_of_this_system()
    seconds = [(0, 0), (0, 86_399), (1, 0), (-1, 86_399), (9, 86_399), (10, 0)]
    told, wrong = Counter[int](), []
    for at in [EPOCH + timedelta(days=TODAY + days, seconds=second) for days, second in seconds]:
        for line in lines:
            code = asked(tmp_path, checker, line.split(":")[0], at)
            told[code] += 1
            if code != answer(line, at, pam):
                wrong.append((f"{at}", line, code, answer(line, at, pam)))
    assert not wrong
    assert set(told) == {OK, MUST_CHANGE, ENDED, BARRED}
    assert min(told.values()) > 100


def pam_of_this_system() -> Pam:
    """The rule of the PAM that is installed here."""
    words = ["dpkg-query", "-W", "-f", "${Version}", "libpam-modules"]
    version = subprocess.run(words, capture_output=True, text=True, check=True).stdout
    major, minor = (int(part) for part in version.split(".")[:2])
    return "1.7" if (major, minor) >= (1, 7) else "1.5"
