"""Sign-ins out of the system's own records: wtmp, btmp and lastlog, and their newer SQLite forms.

Layouts were measured: a record of wtmp and btmp has 384 bytes, one of lastlog 292 at 292 times the
user id. A file that is there but empty tells nothing: newer releases no longer write it.
"""

from __future__ import annotations

import sqlite3
import struct
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

import polars as pl

from keymallet.core.base.listing import some_names
from keymallet.sources.host.auth_log import Logged, read_logs
from keymallet.sources.host.files import HostFiles

_UTMP = struct.Struct("<hxx4x36x32s256s8xII36x")
"""Of a record: its type, the user, the host, seconds and microseconds since 1970."""
_LASTLOG = struct.Struct("<I288x")
_USER_PROCESS, _LOGIN_FAILED = 7, 6
_INSTANT = pl.Datetime("us", "UTC")
EVENTS = {
    "account": pl.String,
    "at": _INSTANT,
    "outcome": pl.String,
    "cause": pl.String,
    "proof": pl.List(pl.String),
    "origin": pl.String,
}
_SAME = timedelta(seconds=5)


@dataclass
class SignIns:
    """What is known of sign-ins on a host.

    `events` is None where nothing records them. `newest` gives an account's newest success as far as
    known; `never` says of which accounts it is known that there was none. `origin` says where from.
    """

    events: pl.DataFrame | None = None
    newest: dict[str, datetime] = field(default_factory=dict)
    never: set[str] | None = None
    origin: list[str] = field(default_factory=list)
    logged: Logged | None = None

    @property
    def supplies_newest(self) -> bool:
        """Whether anything tells of successes at all."""
        return bool(self.origin)


def read_sign_ins(files: HostFiles, ids: dict[str, int], zone: str, at: datetime) -> SignIns:
    """Everything the host's records tell of the accounts `ids` (name to user id)."""
    sign_ins = SignIns()
    parts: list[pl.DataFrame] = []
    sign_ins.logged = read_logs(files, zone, at)
    if sign_ins.logged is not None:
        parts.append(sign_ins.logged.events)
        sign_ins.origin.append("the sign-in log")
    for path, outcome in (("var/log/wtmp", "success"), ("var/log/btmp", "failure")):
        events = _utmp_events(files, path, outcome)
        if events is not None:
            parts.append(events)
            if outcome == "success":
                sign_ins.origin.append(path)
    database = _wtmp_database(files)
    if database is not None:
        parts.append(database)
        sign_ins.origin.append("wtmp.db")
    last = _lastlog(files, ids)
    if last is None:
        last = _lastlog_database(files)
    if parts:
        sign_ins.events = _without_doubles(parts)
        successes = sign_ins.events.filter(pl.col("outcome") == "success").drop_nulls("at")
        newest = successes.group_by("account").agg(pl.col("at").max())
        sign_ins.newest = dict(newest.iter_rows())
    if last is not None:
        sign_ins.origin.insert(0, last.origin)
        for name, instant in last.newest.items():
            sign_ins.newest[name] = max(instant, sign_ins.newest.get(name, instant))
        sign_ins.never = {name for name in ids if name not in sign_ins.newest}
    return sign_ins


@dataclass(frozen=True)
class _Last:
    newest: dict[str, datetime]
    origin: str


def _utmp_events(files: HostFiles, path: str, outcome: str) -> pl.DataFrame | None:
    """Sign-ins of a wtmp or btmp file and its older turns; None where there is no record at all."""
    events = []
    folder, _, name = path.rpartition("/")
    for turned in (name, *(turn for turn in files.names(folder) if turn.startswith(name + "."))):
        if turned.endswith((".db", ".gz", ".xz")):
            continue
        data = files.bytes_of(f"{folder}/{turned}", in_lines=False)
        if not data:
            continue
        whole = len(data) // _UTMP.size
        if len(data) % _UTMP.size:
            last = f"the last {len(data) % _UTMP.size} bytes are no whole record"
            files.refuse("sign-in", f"{folder}/{turned}", whole + 1, last)
        wanted = (_USER_PROCESS,) if outcome == "success" else (_LOGIN_FAILED, _USER_PROCESS)
        records = [
            (_text(user), seconds * 1_000_000 + rest if rest < 1_000_000 else 0, _text(host))
            for kind, user, host, seconds, rest in _UTMP.iter_unpack(data[: whole * _UTMP.size])
            if kind in wanted and user.rstrip(b"\0")
        ]
        names, instants, hosts = zip(*records, strict=True) if records else ((), (), ())
        origins = pl.Series(hosts, dtype=pl.String)
        events.append(_events(pl.Series(names, dtype=pl.String), instants, outcome, origins))
    return pl.concat(events) if events else None


def _text(field: bytes) -> str:
    """Fixed-width bytes as text, up to the first NUL."""
    return field.partition(b"\0")[0].decode("utf-8", "replace")


def _events(names: pl.Series, microseconds: Sequence[int], outcome: str, origin: pl.Series) -> pl.DataFrame:
    instant = pl.from_epoch(pl.Series(microseconds, dtype=pl.Int64), time_unit="us").dt.replace_time_zone(
        "UTC"
    )
    frame = pl.DataFrame({"account": names, "at": instant, "origin": origin})
    return frame.select(
        "account",
        pl.when(pl.col("at") > pl.datetime(1970, 1, 1, time_zone="UTC")).then("at").alias("at"),
        pl.lit(outcome).alias("outcome"),
        pl.lit(None, dtype=pl.String).alias("cause"),
        pl.lit(None, dtype=pl.List(pl.String)).alias("proof"),
        pl.when(pl.col("origin") != "").then("origin").alias("origin"),
    )


def _lastlog(files: HostFiles, ids: dict[str, int]) -> _Last | None:
    """The newest sign-in by user id. Accounts of one id share a record, as on the host itself.

    Where no account has a record, nobody can tell whether the file is written at all any more.
    """
    path = "var/log/lastlog"
    records = files.records_at(path, _LASTLOG.size, ids.values())
    times = {uid: _LASTLOG.unpack(record)[0] for uid, record in (records or {}).items()}
    if not any(times.values()):
        return None
    newest = {name: datetime.fromtimestamp(times[uid], UTC) for name, uid in ids.items() if times.get(uid)}
    holders = Counter(ids.values())
    shared = [name for name in newest if holders[ids[name]] > 1]
    if shared:
        files.remark(
            f"{files.shown(path)}: one record for all of {some_names(shared, 8)}: they share a user id"
        )
    return _Last(newest, path)


def _lastlog_database(files: HostFiles) -> _Last | None:
    path = "var/lib/lastlog/lastlog2.db"
    rows = _query(files, path, "SELECT Name, Time FROM Lastlog2")
    if rows is None:
        return None
    newest: dict[str, datetime] = {}
    for name, seconds in rows:
        if isinstance(name, str) and isinstance(seconds, int) and 0 < seconds < 253_402_300_800:
            newest[name] = datetime.fromtimestamp(seconds, UTC)
        else:
            files.refuse("sign-in", path, 0, f"a row without a name or a time: {name!r}")
    return _Last(newest, path)


def _wtmp_database(files: HostFiles) -> pl.DataFrame | None:
    for path in ("var/log/wtmp.db", "var/lib/wtmpdb/wtmp.db"):
        rows = _query(files, path, "SELECT User, Login, RemoteHost FROM wtmp WHERE Type = 3")
        if rows is None:
            continue
        good = [row for row in rows if isinstance(row[0], str) and isinstance(row[1], int) and row[1] >= 0]
        for _ in range(len(rows) - len(good)):
            files.refuse("sign-in", path, 0, "a row without a name or a time")
        names = pl.Series([row[0] for row in good], dtype=pl.String)
        instants = [min(row[1], _LAST_US) for row in good]
        hosts = pl.Series([row[2] if isinstance(row[2], str) else "" for row in good], dtype=pl.String)
        return _events(names, instants, "success", hosts)
    return None


_LAST_US = 253_402_300_799_000_000


def _query(files: HostFiles, path: str, statement: str) -> list[tuple[Any, ...]] | None:
    """Rows of an SQLite file, read from memory: nothing is ever written beside the evidence."""
    data = files.bytes_of(path, in_lines=False)
    if not data:
        return None
    # A database in memory has no write-ahead log: what the file itself holds is read.
    plain = data[:18] + b"\x01\x01" + data[20:] if data[18:20] == b"\x02\x02" else data
    connection = sqlite3.connect(":memory:")
    try:
        connection.deserialize(plain)
        return connection.execute(statement).fetchall()
    except (sqlite3.Error, OverflowError, UnicodeDecodeError) as error:
        files.refuse("sign-in", path, 0, f"the database cannot be read: {error}")
        return None
    finally:
        connection.close()


def _without_doubles(parts: list[pl.DataFrame]) -> pl.DataFrame:
    """All events in the order of time. What the log tells with its proof, wtmp and btmp tell again."""
    whole = pl.concat([part.select(EVENTS.keys()) for part in parts]).with_row_index("order")
    whole = whole.sort("account", "outcome", "at", "order", nulls_last=True)
    before = pl.col("at").shift(1).over("account", "outcome")
    after = pl.col("at").shift(-1).over("account", "outcome")
    with_proof = pl.col("proof").is_not_null()
    told_before = with_proof.shift(1).over("account", "outcome").fill_null(False)
    told_after = with_proof.shift(-1).over("account", "outcome").fill_null(False)
    again = ~with_proof & (
        (told_before & (pl.col("at") - before <= _SAME)) | (told_after & (after - pl.col("at") <= _SAME))
    )
    return whole.filter(~again.fill_null(False)).sort("at", "order", nulls_last=True).drop("order")
