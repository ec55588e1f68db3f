"""Lines without end: refused with their number, in every format, before they take all memory."""

from __future__ import annotations

from pathlib import Path

import pytest

from keymallet.sources.shared import limits
from tests.support import run, write

HEAD = 'organisation = "O"\nclock = "UTC"\nrulebook = "r.toml"\n[source.a]\n'


@pytest.mark.parametrize(
    ("data", "line"),
    [
        (b"", 0),
        (b"short\n" * 9, 0),
        (b"0123456789", 0),
        (b"01234567890", 1),
        (b"a\n" + b"b" * 10 + b"\nc\n", 0),
        (b"a\n" + b"b" * 11 + b"\nc\n", 2),
        (b"a\r\nb\r\n" + b"c" * 11, 3),
        (b"a\n" * 40 + b"b" * 12, 41),
        (b"\n" + b"b" * 11, 2),
        (b"abc\rdef\rghi\rjkl\r", 0),
    ],
)
def test_the_first_line_that_is_too_long(data: bytes, line: int) -> None:
    """With ten bytes as the most; lines may end as they do anywhere."""
    assert limits.endless_line(data, 10) == line


@pytest.mark.parametrize(
    ("section", "files", "told", "code"),
    [
        (
            'read = "csv"\nmap = "m.toml"\nfiles = { account = "e" }',
            {"e": b'login,note\nx,1\ny,"' + b"a" * (65 << 20) + b'"\nz,2\n'},
            "e:3: this line is longer than 64 MB",
            2,
        ),
        (
            'read = "json"\nmap = "m.toml"\nfiles = { account = "e" }',
            {"e": b'{"login":"x"}\n{"login":"' + b"a" * (65 << 20) + b'"}\n{"login":"y"}\n'},
            "read 2 accounts, refused 1 (e line 2: a record of 68,157,452 bytes is too large)",
            3,
        ),
        (
            'read = "ldif"\nfiles = "e"',
            {
                "e": b"dn: uid=x,dc=x\nobjectClass: person\nuid: x\n\n"
                b"dn: uid=y,dc=x\nuid: y\ncn: " + b"a" * (65 << 20) + b"\n"
            },
            "read 1 account, refused 1 (e line 5: a record of 68,157,467 bytes is too large)",
            3,
        ),
        (
            'read = "host"\nfolder = "h"',
            {"h/etc/passwd": b"x:x:1:1::/:/bin/sh\n" + b"a" * (65 << 20)},
            "h/etc/passwd: cannot be read: this line is longer than 64 MB",
            2,
        ),
    ],
    ids=["csv", "json", "ldif", "host"],
)
def test_a_line_without_end(
    tmp_path: Path, section: str, files: dict[str, bytes], told: str, code: int
) -> None:
    """What else stands in the file is read where records can be told apart; no traceback."""
    write(tmp_path, {"m.toml": '[account.columns]\nname = "login"\n', "estate.toml": HEAD + section, **files})
    done = run("read", cwd=tmp_path, expect=code)
    assert told in " ".join((done.stdout + done.stderr).split())


def test_a_host_whose_accounts_cannot_be_read_leaves_the_others(tmp_path: Path) -> None:
    """It is named as not read, and does not look like a host of nobody."""
    good = "x:x:1:1::/:/bin/sh\n"
    hosts = {"h/one/etc/passwd": good, "h/two/etc/passwd": good.encode() + b"a" * (65 << 20)}
    book = 'title = "T"\n[rule.r]\ntitle = "r"\nseverity = "low"\nmust = "enabled"\n'
    write(tmp_path, {"estate.toml": HEAD + 'read = "host"\nfolder = "h"', "r.toml": book, **hosts})
    told = run("read", cwd=tmp_path, expect=3).stdout
    assert "a/two" in told and "not read" in told and "read 1 account" in told
    judged = run("judge", "--all", cwd=tmp_path, expect=3).stdout
    assert "incomplete: a/two: not read: h/two/etc/passwd: cannot be read" in " ".join(judged.split())
