"""Letters through a real mail server on this machine: a willing, a slow, a refusing and a lying one."""

from __future__ import annotations

import email
import email.policy
import re
import sqlite3
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.certificates import make_certificates
from tests.sending.support import PASSWORD, SEND, Taking, bakery, mail_server, signed_in, with_mail
from tests.support import run, run_installed

MIA, NED = "mia@bakery.example", "ned@bakery.example"


@pytest.fixture
def there(tmp_path: Path) -> Path:
    return bakery(tmp_path / "bakery")


def fates(output: str) -> dict[str, str]:
    """What became of each letter, by the first name of whose it is."""
    found = re.findall(
        r"^  (sent|failed|in doubt|no address|would go|sending|nothing due) +(\w+)", output, re.M
    )
    return {whose: fate for fate, whose in found}


def test_each_letter_goes_once_a_run_and_to_whom_it_is(there: Path) -> None:
    """Managers by their address of the roster; who has none is said; a second time nothing goes."""
    part = Taking()
    with mail_server(part) as port:
        with_mail(there, port)
        told = run(*SEND, "--dry-run", cwd=there, expect=0).stdout
        assert fates(told) == {"Mia": "would go", "Ned": "would go", "oven": "no address"}
        assert "nothing was sent" in told and part.taken == []
        assert fates(run(*SEND, cwd=there, expect=0).stdout) == {
            "Mia": "sent",
            "Ned": "sent",
            "oven": "no address",
        }
        assert [to for to, _ in part.taken] == [MIA, NED]
        told = run(*SEND, cwd=there, expect=0).stdout
        assert len(part.taken) == 2 and " ".join(told.split()).count("this run already") == 2
        run(*SEND, "--answerer", "Ned Dough", "--again", cwd=there, expect=0)
        assert [to for to, _ in part.taken] == [MIA, NED, NED]
    letters = {to: email.message_from_bytes(data, policy=email.policy.default) for to, data in part.taken}
    assert (
        letters[MIA]["To"].addresses[0].addr_spec == MIA
        and letters[MIA]["From"] == "Keymallet <identity@bakery.example>"
    )
    sent_at = letters[MIA]["Date"].datetime
    assert abs(sent_at - datetime.now(UTC)) < timedelta(minutes=5), "an old date would sink it in a mailbox"
    bodies = {to: letter.get_body(("plain",)).get_content() for to, letter in letters.items()}
    assert "d/ida" in bodies[MIA] and "d/jon" in bodies[MIA] and "d/kim" not in bodies[MIA]
    assert "d/kim" in bodies[NED] and "d/ida" not in bodies[NED] and "Mia" not in bodies[NED]
    run("judge", "--at", "2026-11-25T09:00Z", "--record", cwd=there)
    assert fates(run(*SEND, "--dry-run", cwd=there, expect=0).stdout)["Mia"] == "would go", (
        "another run, another letter"
    )


def test_who_has_nothing_to_mend_gets_nothing_and_old_news_is_said_to_be_old(there: Path) -> None:
    """Kim's account is exempt now: there is nothing that Ned could do. The run before asks for what was mended."""
    (there / "x.toml").write_text(
        '[exemption.kim]\nkind = "transition"\naccounts = ["d/kim"]\nrules = ["on"]\nreason = "r"\n'
        'asked-by = "a"\napproved-by = "b"\nfrom = 2026-10-01\nuntil = 2026-12-20\n'
    )
    with mail_server(Taking()) as port:
        with_mail(there, port)
        estate = there / "estate.toml"
        estate.write_text('register = "x.toml"\n' + estate.read_text("utf-8"), "utf-8")
        run("judge", "--at", "2026-11-24T10:00Z", "--record", cwd=there, expect=1)
        for more in (["--dry-run"], []):
            told = run(*SEND, *more, cwd=there, expect=0).stdout
            assert fates(told)["Ned"] == "nothing due" and "is newer" not in told
        old = run(*SEND, "--dry-run", "1", cwd=there, expect=0).stdout
        assert "run 2 of 2026-11-24 10:00 is newer" in old and fates(old)["Ned"] == "would go"


def test_a_refused_one_is_said_and_can_be_sent_again(there: Path) -> None:
    part = Taking()
    part.refused = (MIA,)
    with mail_server(part) as port:
        with_mail(there, port)
        told = run(*SEND, cwd=there, expect=3).stdout
        assert fates(told) == {"Mia": "failed", "Ned": "sent", "oven": "no address"}
        assert "550 there is nobody of that name here" in " ".join(told.split())
        part.refused = ()
        assert fates(run(*SEND, cwd=there, expect=0).stdout)["Mia"] == "sent"
        assert [to for to, _ in part.taken] == [NED, MIA]


def test_what_a_server_refuses_at_the_end_was_not_sent(there: Path) -> None:
    part = Taking()
    part.answer = "554 this looks like spam"
    with mail_server(part) as port:
        with_mail(there, port)
        assert fates(run(*SEND, cwd=there, expect=3).stdout)["Mia"] == "failed"
        part.answer = "250 taken"
        run(*SEND, cwd=there, expect=0)
    assert [to for to, _ in part.taken] == [MIA, NED]


def test_of_one_that_hangs_up_nobody_can_tell(there: Path) -> None:
    """It may have the letter: it does not go again by itself, and the next is tried all the same."""
    part = Taking()
    part.hangs_up = True
    with mail_server(part) as port:
        with_mail(there, port)
        told = run(*SEND, cwd=there, expect=3).stdout
        assert fates(told) == {"Mia": "in doubt", "Ned": "in doubt", "oven": "no address"}
        part.hangs_up = False
        run(*SEND, cwd=there, expect=3)
        assert [to for to, _ in part.taken] == [MIA, NED]
        assert fates(run(*SEND, "--again", cwd=there, expect=0).stdout)["Mia"] == "sent"


def test_a_slow_one_is_not_waited_for(there: Path) -> None:
    part = Taking()
    part.wait = 3
    with mail_server(part) as port:
        with_mail(there, port, 'within = "1s"')
        begun = time.monotonic()
        told = run(*SEND, "--answerer", "Mia Crumb", cwd=there, expect=3).stdout
        assert time.monotonic() - begun < 3 and fates(told) == {"Mia": "in doubt"}
        time.sleep(2.5)


def test_none_at_all_and_nothing_is_lost(there: Path) -> None:
    with mail_server(Taking()) as port:
        pass
    with_mail(there, port)
    told = run(*SEND, cwd=there, expect=2).stderr
    assert f"the mail server 127.0.0.1:{port}" in told and "nothing was sent" in told
    part = Taking()
    with mail_server(part) as port:
        with_mail(there, port)
        assert fates(run(*SEND, cwd=there, expect=0).stdout)["Mia"] == "sent"


def test_the_way_is_private_and_the_password_is_not_told(there: Path, tmp_path: Path) -> None:
    """STARTTLS with a certificate that is checked, and nothing is said before it."""
    make_certificates(tmp_path)
    part = Taking()
    more = {"authenticator": signed_in, "auth_required": True}
    account = ('user = "keymallet"', 'password-from = "env:MAIL_PASSWORD"')
    trusted = (*account, f'ca = "{tmp_path / "ca.pem"}"')
    with mail_server(part, tmp_path, **more) as port:
        with_mail(there, port, *trusted, security="starttls")
        told = run(*SEND, cwd=there, expect=2).stderr
        assert "there is no MAIL_PASSWORD in the environment" in told
        told = run(*SEND, cwd=there, expect=2, MAIL_PASSWORD="wrong-password").stderr
        assert "535" in told and "wrong-password" not in told
        assert fates(run(*SEND, cwd=there, expect=0, MAIL_PASSWORD=PASSWORD).stdout)["Ned"] == "sent"
        with_mail(there, port, *account, security="starttls")
        told = run(*SEND, "--again", cwd=there, expect=2, MAIL_PASSWORD=PASSWORD).stderr
        assert "its certificate is not trusted" in told and len(part.taken) == 2
    with mail_server(part) as port:
        with_mail(there, port, *trusted, security="starttls")
        told = run(*SEND, "--again", cwd=there, expect=2, MAIL_PASSWORD=PASSWORD).stderr
        assert "does not offer STARTTLS" in told and len(part.taken) == 2
    kept = b"".join(path.read_bytes() for path in there.rglob("*") if path.is_file())
    assert PASSWORD.encode() not in kept and b"wrong-password" not in kept


def test_two_at_once_send_one_letter_each(there: Path) -> None:
    part = Taking()
    part.wait = 0.2
    with mail_server(part) as port:
        with_mail(there, port)
        with ThreadPoolExecutor(3) as workers:
            list(workers.map(lambda _: run_installed(*SEND, cwd=there), range(3)))
    assert sorted(to for to, _ in part.taken) == [MIA, NED]


def test_one_that_was_ended_while_sending_is_in_doubt_and_the_rest_goes(there: Path) -> None:
    """As a kill leaves it: claimed, and no word of what became of it."""
    part = Taking()
    with mail_server(part) as port:
        with_mail(there, port)
        run(*SEND, "--answerer", "Mia Crumb", cwd=there, expect=0)
        with sqlite3.connect(there / "logbook/logbook.sqlite") as connection:
            connection.execute("UPDATE letter SET fate = 'sending'")
        told = run(*SEND, cwd=there, expect=3).stdout
        assert fates(told)["Mia"] == "sending" and fates(told)["Ned"] == "sent"
        assert "by another process or one that was ended" in " ".join(told.split())


@pytest.mark.parametrize(
    "mail", ["x@y\r\nBcc: z@z.example", "no address", "müller@bakery.example", "a@b@c", "<a@b>"]
)
def test_what_is_no_address_is_not_sent_to(tmp_path: Path, mail: str) -> None:
    """And breaks no letter."""
    there = bakery(tmp_path / "bakery")
    staff = there / "staff.csv"
    staff.write_text(staff.read_text("utf-8").replace(MIA, f'"{mail}"'), "utf-8", newline="")
    run("read", "--at", "2026-11-25T09:00Z", cwd=there)
    run("judge", "--at", "2026-11-25T09:00Z", "--record", cwd=there, expect=1)
    part = Taking()
    with mail_server(part) as port:
        with_mail(there, port)
        told = run(*SEND, cwd=there, expect=0).stdout
    assert fates(told)["Mia"] == "no address" and [to for to, _ in part.taken] == [NED]
    run("report", "--format", "letter", "--each", "answerer", "--into", "out", cwd=there, expect=0)
    letter = email.message_from_bytes((there / "out/Mia-Crumb.eml").read_bytes(), policy=email.policy.default)
    assert "To" not in letter and "Bcc" not in letter


def test_two_of_one_name_have_a_letter_each(tmp_path: Path) -> None:
    """Told apart by their number: neither learns of the other's."""
    there = bakery(tmp_path / "bakery")
    staff = there / "staff.csv"
    staff.write_text(staff.read_text("utf-8").replace("Ned Dough", "Mia Crumb"), "utf-8")
    run("read", "--at", "2026-11-25T09:00Z", cwd=there)
    run("judge", "--at", "2026-11-25T09:00Z", "--record", cwd=there, expect=1)
    part = Taking()
    with mail_server(part) as port:
        with_mail(there, port)
        run(*SEND, cwd=there, expect=0)
    taken = {to: data.decode() for to, data in part.taken}
    assert taken.keys() == {MIA, NED} and "d/kim" not in taken[MIA] and "d/ida" not in taken[NED]


@pytest.mark.parametrize(
    ("lines", "told"),
    [
        ('server = "mail.bakery.example"\nsecurity = "none"', "they need a private way"),
        ('server = "mail.bakery.example"\nsecurity = "ssl"', "there are: starttls, tls, none"),
        ('server = "a b"', "is no host"),
        ('server = "m:99999"', "is no host"),
        ('server = "m"\nuser = "x"', "belong together"),
        ('server = "m"\nwithin = "soon"', "is no length of time"),
        ('server = "m"\npassword = "x"', 'no setting "password"'),
        ('server = "m"\nuser = "x"\npassword-from = "hunter22"', "this is no pointer to a secret"),
    ],
)
def test_a_mail_section_that_is_wrong(there: Path, lines: str, told: str) -> None:
    text = (there / "estate.toml").read_text("utf-8")
    section = f'[mail]\nfrom = "i@bakery.example"\n{lines}\n'
    (there / "estate.toml").write_text(text.replace("[source.d]", section + "[source.d]"), "utf-8")
    said = " ".join(run(*SEND, cwd=there, expect=2).stderr.split())
    assert told in said and "hunter22" not in said


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("report", "--format", "letter", "--each", "answerer", "--send"), "names no mail server"),
        (("report", "--format", "syslog", "--send"), "names no log server"),
        (("report", "--format", "letter", "--send"), "--each answerer"),
        (("report", "--send"), "page is nothing that is sent"),
        (("report", "--dry-run"), "--send"),
    ],
)
def test_what_cannot_be_sent(there: Path, words: tuple[str, ...], told: str) -> None:
    assert told in " ".join(run(*words, cwd=there, expect=2).stderr.split())
