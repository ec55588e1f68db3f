"""Messages through a real rsyslog on this machine, over TLS."""

from __future__ import annotations

import json
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.certificates import make_certificates
from tests.oracles import install, program
from tests.sending.support import ESTATE, bakery, free_port
from tests.support import run

SEND = ("report", "--format", "syslog", "--send")
CONFIG = """
module(load="imtcp")
global(DefaultNetstreamDriver="gtls" DefaultNetstreamDriverCAFile="{here}/ca.pem"
  DefaultNetstreamDriverCertFile="{here}/server.pem" DefaultNetstreamDriverKeyFile="{here}/server.key"
  maxMessageSize="64k" workDirectory="{here}")
template(name="told" type="list" option.jsonf="on") {{
  property(outname="pri" name="pri" format="jsonf") property(outname="app" name="app-name" format="jsonf")
  property(outname="kind" name="msgid" format="jsonf") property(outname="data" name="structured-data" format="jsonf")
  property(outname="said" name="msg" format="jsonf") }}
ruleset(name="in") {{ action(type="omfile" file="{here}/got" template="told") }}
input(type="imtcp" address="127.0.0.1" port="{port}" ruleset="in" StreamDriver.Name="gtls" StreamDriver.Mode="1"
  StreamDriver.AuthMode="anon" SupportOctetCountedFraming="on")
"""


@pytest.fixture
def server(tmp_path: Path) -> Iterator[tuple[int, Path]]:
    """A log server, and the file it writes what it got to."""
    if not list(Path("/usr/lib").glob("*/rsyslog/lmnsd_gtls.so")):
        install("rsyslog-gnutls")
    here = tmp_path / "rsyslog"
    here.mkdir()
    make_certificates(here)
    port = free_port()
    (here / "conf").write_text(CONFIG.format(here=here, port=port))
    words = [program("rsyslogd"), "-n", "-f", str(here / "conf"), "-i", str(here / "pid")]
    with (here / "told").open("w") as told:
        running = subprocess.Popen(words, stdout=told, stderr=told)
        try:
            for _ in range(100):
                with socket.socket() as probe:
                    if probe.connect_ex(("127.0.0.1", port)) == 0:
                        break
                time.sleep(0.1)
            else:
                raise AssertionError((here / "told").read_text())
            yield port, here / "got"
        finally:
            running.terminate()
            running.wait(10)


def with_log(folder: Path, port: int, *more: str) -> None:
    text = "\n".join(["[syslog]", f'server = "localhost:{port}"', *more, "", ""])
    (folder / "estate.toml").write_text(ESTATE.replace("[source.d]", text + "[source.d]"), "utf-8")


def got(file: Path, number: int) -> list[dict[str, str]]:
    """What the server wrote, once it has so many lines."""
    for _ in range(100):
        lines = file.read_text("utf-8").splitlines() if file.exists() else []
        if len(lines) >= number:
            break
        time.sleep(0.1)
    return [json.loads(line) for line in lines]


def test_every_message_arrives_as_it_was_written(server: tuple[int, Path], tmp_path: Path) -> None:
    """Priority, kind, structured data and text, with a name that would break out of its place."""
    port, file = server
    there = bakery(tmp_path / "bakery", 'ida,1,n\\n"x""]\\ y",2,n\\nkäthe,3,n\\n')
    with_log(there, port, f'ca = "{file.parent / "ca.pem"}"')
    assert "4 messages would go" in run(*SEND, "--dry-run", cwd=there, expect=0).stdout
    run(*SEND, cwd=there, expect=0)
    told = got(file, 4)
    assert [each["kind"] for each in told] == ["run", "finding", "finding", "finding"]
    assert {each["pri"] for each in told[1:]} == {str(13 * 8 + 3)} and {each["app"] for each in told} == {
        "keymallet"
    }
    data = " ".join(each["data"] for each in told[1:])
    assert 'account="d/ida"' in data and r'account="d/x\"\]\\ y"' in data and 'account="d/käthe"' in data
    assert any("d/käthe: All are on" in each["said"] for each in told)
    assert "snapshot-BLAKE3" in told[0]["data"]


def test_a_server_that_is_not_trusted_or_not_there_gets_nothing(
    server: tuple[int, Path], tmp_path: Path
) -> None:
    port, file = server
    there = bakery(tmp_path / "bakery")
    with_log(there, port)
    told = " ".join(run(*SEND, cwd=there, expect=2).stderr.split())
    assert "its certificate is not trusted" in told and "nothing was sent" in told
    with_log(there, free_port(), f'ca = "{file.parent / "ca.pem"}"')
    assert "nothing was sent" in run(*SEND, cwd=there, expect=2).stderr
    with_log(there, port, 'ca = "gone.pem"')
    assert "gone.pem" in run(*SEND, cwd=there, expect=2).stderr
    assert not file.exists()
