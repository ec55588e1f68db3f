"""PAM's own answers in a root of its own: random shadow lines by their ages, password fields by passwords."""

from __future__ import annotations

import random
import subprocess
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from keymallet.sources.host.lines import DroppedError, parse_shadow, stored_form
from keymallet.sources.shared.ageing import Pam
from tests.deep.roots import own_root
from tests.oracles import program
from tests.sources.host.test_ageing import BARRED, ENDED, MUST_CHANGE, OK, TOO_SOON, answer

pytestmark = pytest.mark.deep
LINES = 1_500
NO_LINE = 9
PASSWORD = "Planted-1"
# Made by libcrypt from PASSWORD; those that only some systems take are not among them.
HASHES = {
    "yescrypt": "$y$j9T$abcdefgh$W9tTaUFxqx/ZpB/xFZNt7pnDTU9X.Kua3MnBzrPEOJD",
    "gost": "$gy$j9T$abcdefgh$CQekhxrOX2HkKEUNB1S2ZoYHHOHm0CYXLkxG3s.NwU7",
    "scrypt": "$7$CU..../....abcdefgh$z6TIgmLRllQqk5EM6/tw0.JBRHic0H/e.sQissL0WH1",
    "bcrypt": "$2b$05$abcdefghijklmnopqrstuuuo1wMSWEaMrqxwBFeCepZLKhkqMNP4y",
    "bcrypt y": "$2y$05$abcdefghijklmnopqrstuuuo1wMSWEaMrqxwBFeCepZLKhkqMNP4y",
    "sha512": "$6$abcdefgh$qhQFParHfbuy0XMXavZBSQpVF/vHqOKEe9FFirYTl4oUT.B/iY/s20hz89W9a/xSfLLYI/P6WYXGWC7KQAeEM1",
    "sha512 without salt": "$6$$T8lw8oTV7/8Ph4j51rbjt7XPpw85YZahYOwfGXzbx7zPiCalXW6CFpdlRwxKxszPNQDRNLEsUkfMvKIbJicGx.",
    "sha512 with rounds": "$6$rounds=5000$abcdefgh$qhQFParHfbuy0XMXavZBSQpVF/vHqOKEe9FFirYTl4oUT.B/iY/s20hz89W9a/xSfLLYI/P6WYXGWC7KQAeEM1",
    "sha256": "$5$abcdefgh$FhST84EVt9hWnMSWkwbDLQ8LIzECMDi0dsMRiOUW5g2",
    "sha1": "$sha1$1000$abcdefgh$5WozpdA4je0SAQ/DM8OWk6KpzPgZ",
    "md5": "$1$abcdefgh$KLUgh1GVA3bqNA3JLj8nn.",
    "sunmd5": "$md5,rounds=5000$abcdefgh$$Nid6xhFX3HfsE2HycGiDg0",
    "nt": "$3$$be2c614c71c28105589136eef5b94c70",
    "des": "abcjbD6ypUxs6",
}
ENDINGS = ("", "", " ", "x", ",ab..", "$")


@pytest.fixture(scope="module", params=[("bookworm", "1.5"), ("trixie", "1.7")], ids=["pam15", "pam17"])
def system(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Path, Pam]]:
    suite, pam = request.param
    yield own_root(suite, tmp_path_factory.mktemp("pam")), pam


def install_lines(root: Path, lines: list[str]) -> None:
    accounts = [
        f"{line.split(':')[0]}:x:{5000 + place}:5000::/:/bin/sh\n" for place, line in enumerate(lines)
    ]
    (root / "etc/passwd").write_text("root:x:0:0::/:/bin/sh\n" + "".join(accounts))
    (root / "etc/shadow").write_text("".join(f"{line}\n" for line in lines))


def checked(root: Path, name: str, how: str, data: bytes = b"") -> int:
    words = [program("chroot"), str(root), "/usr/sbin/unix_chkpwd", name, how]
    return subprocess.run(words, input=data, capture_output=True, check=False).returncode


def random_line(name: str, today: int, source: random.Random) -> str:
    days = [0, 1, 5, 89, 90, 91, 99, 100, 101, 300, -1, -5]
    changed = source.choice(
        [
            "",
            "0",
            "-0",
            "2147483648",
            "4294967294",
            "4294967295",
            "4294967296",
            "-1",
            " 5",
            "+7",
            *(str(today - day) for day in days * 3),
        ]
    )
    number = [
        "",
        "",
        "0",
        "-0",
        "10",
        "90",
        "90",
        "10000",
        "99999",
        "2147483647",
        "2147483648",
        "4294967294",
        "4294967295",
        "+5",
        "x",
    ]
    least, most, inactive = source.choice(["0", "", "50"]), source.choice(number), source.choice(number)
    ends = source.choice(
        ["", "", "", "0", "1", "-0", "2147483648", "4294967294", str(today), str(today + 1), str(today - 1)]
    )
    fields = [name, "*", changed, least, most, "7", inactive, ends, ""]
    return ":".join(fields[: source.choice([9] * 12 + [8, 7, 5, 4])])


def test_random_shadow_lines(system: tuple[Path, Pam]) -> None:
    """Each as `unix_chkpwd` answers: let in, has to change it, ended, barred, or no line at all."""
    root, pam = system
    today = int(time.time()) // 86_400
    source = random.Random(11)
    lines = [random_line(f"t{number}", today, source) for number in range(LINES)]
    install_lines(root, lines)
    told, wrong = Counter[int](), []
    at = datetime.now(UTC)
    for line in lines:
        code = checked(root, line.split(":")[0], "chkexpiry")
        code = OK if code == TOO_SOON else code
        try:
            parse_shadow(line)
            ours = answer(line, at, pam)
        except DroppedError:
            ours = NO_LINE
        told[code] += 1
        if ours != code:
            wrong.append((line, "PAM", code, "ours", ours))
    assert not wrong, "\n".join(map(str, wrong[:20]))
    assert set(told) == {OK, MUST_CHANGE, ENDED, BARRED, NO_LINE} and min(told.values()) > 20


def test_password_fields(system: tuple[Path, Pam]) -> None:
    """Whether the password that was hashed gets in: whole, cut off, with something behind, barred."""
    root, _ = system
    # A hash with another last sign is a hash of another password: those are left out.
    fields = [
        begins + whole[: len(whole) - cut] + ending
        for whole in HASHES.values()
        for cut in (0, 1, 3)
        for ending in ENDINGS
        for begins in ("", "!", "*", " ")
        if cut != len(ending) or not cut
    ]
    fields += [
        "x",
        "NP",
        "*",
        "!",
        "!!",
        "*LK*",
        "$",
        "$6$",
        "none",
        "_J9..abcdhskx3TPbYlg",
        "$argon2id$v=19$m=1$a$b",
    ]
    lines = [f"t{number}:{value}:20000:0:99999:7:::" for number, value in enumerate(fields)]
    install_lines(root, lines)
    wrong = []
    for number, value in enumerate(fields):
        gets_in = checked(root, f"t{number}", "nullok", PASSWORD.encode() + b"\0") == OK
        ours, _ = stored_form(value)
        if (gets_in and ours is not True) or (not gets_in and ours is True):
            wrong.append((value, gets_in, ours))
    assert not wrong, "\n".join(map(str, wrong))
