"""A real database server on a high loopback port, in a folder of its own, for as long as a test run lasts."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
import time
from pathlib import Path
from uuid import uuid4

from sqlalchemy import URL, create_engine, exc, text

from tests.oracles import install, missing

PASSWORD = "planted-Secret-4711"
USER = "keymallet"


def binaries() -> Path:
    """The folder of the server's programs; installed first if need and possible, else the test is skipped."""
    for _ in range(2):
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
        if found:
            return found[-1].parent
        install("postgresql")
    return missing("PostgreSQL is not where its package puts it")


class Server:
    """One server; each test has a database of its own in it."""

    def __init__(self) -> None:
        self.password = PASSWORD
        self.programs = binaries()
        self.folder = Path(tempfile.mkdtemp(prefix="keymallet-postgresql-"))
        # The server refuses to run as root: it runs as the user its package makes.
        self.as_user = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
        if os.geteuid() != 0:
            self.as_user = []
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        password = self.folder / "password"
        password.write_text(PASSWORD)
        if self.as_user:
            shutil.chown(self.folder, "postgres", "postgres")
            shutil.chown(password, "postgres", "postgres")
        data = self.folder / "data"
        words = [
            "-D",
            data,
            "-U",
            USER,
            "-A",
            "scram-sha-256",
            "--pwfile",
            password,
            "-E",
            "UTF8",
            "--no-sync",
        ]
        self._do("initdb", *words)
        self.process: subprocess.Popen[bytes] | None = None
        self.start()

    def _do(self, program: str, *words: object) -> None:
        done = subprocess.run(
            [*self.as_user, str(self.programs / program), *map(str, words)],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr

    def start(self) -> None:
        """Start it, and wait until it answers."""
        options = ["-h", "127.0.0.1", "-p", str(self.port), "-k", str(self.folder), "-c", "fsync=off"]
        self.process = subprocess.Popen(
            [*self.as_user, str(self.programs / "postgres"), "-D", str(self.folder / "data"), *options],
            cwd=self.folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        engine = create_engine(self.url("postgres"))
        for _ in range(200):
            try:
                with engine.connect():
                    return
            except exc.OperationalError:
                time.sleep(0.1)
        raise AssertionError("the server does not answer")

    def stop(self, signal: str = "fast") -> None:
        """Stop it: `fast`, or `immediate` as if the machine had failed."""
        self._do("pg_ctl", "stop", "-D", self.folder / "data", "-m", signal)
        assert self.process is not None
        self.process.wait()

    def url(self, database: str) -> URL:
        """The address of a database, with the password."""
        return URL.create("postgresql+psycopg", USER, PASSWORD, "127.0.0.1", self.port, database)

    def new_database(self) -> str:
        """The name of a database that is empty."""
        name = f"logbook_{uuid4().hex[:12]}"
        engine = create_engine(self.url("postgres"), isolation_level="AUTOCOMMIT")
        with engine.connect() as connection:
            connection.execute(text(f'CREATE DATABASE "{name}"'))
        engine.dispose()
        return name

    def close(self) -> None:
        """Stop it, and take away everything it wrote."""
        if self.process is not None and self.process.poll() is None:
            self.stop("immediate")
        shutil.rmtree(self.folder, ignore_errors=True)
