"""`auth.log` and `secure`: who signed in over SSH and how, who failed, which key was used, who used sudo.

Lines are taken apart as columns. Two ways of writing the time are known: RFC 3339, and the traditional
one without year and zone, which is read in the host's clock as the newest such day that is not after
the reading.
"""

from __future__ import annotations

import gzip
import re
import zlib
from dataclasses import dataclass
from datetime import datetime, timedelta

import polars as pl

from keymallet.sources.host import sudo_log
from keymallet.sources.host.files import HostFiles

_NAME = re.compile(r"(auth\.log|secure)([.-].+)?")
_FULL = r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d{1,9})?(?:Z|[+-]\d\d:\d\d)"
_SHORT = r"[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d"
_HEAD = rf"^(?:({_FULL})|({_SHORT})) \S+ "
_SSH = r"sshd(?:-session)?(?:\[\d+\])?: "
_ACCEPTED = (
    _HEAD + _SSH + r"Accepted (\S+) for (.*) from (\S+) port \d+(?: ssh2)?(?:: (\S+) (\S+)(?: .*)?)?\s*$"
)
_FAILED = _HEAD + _SSH + r"Failed (\S+) for (?:invalid user )?(.*) from (\S+) port \d+(?: ssh2)?(?:: .*)?\s*$"
_CONSOLE = _HEAD + r"login(?:\[\d+\])?: pam_unix\(login:session\): session opened for user ([^\s(]+)"
_MADE = _HEAD + r"useradd(?:\[\d+\])?: new user: name=([^,]+), UID="
_INSTANT = pl.Datetime("us", "UTC")
_WORDS = pl.List(pl.String)


@dataclass
class Logged:
    """What the logs tell: events, elevations by sudo, the newest use of each key, when accounts were made."""

    events: pl.DataFrame
    elevations: pl.DataFrame
    key_used: dict[tuple[str, str], datetime]
    created: dict[str, datetime]


def read_logs(files: HostFiles, zone: str, at: datetime) -> Logged | None:
    """Read the logs and their older turns; None where there is none."""
    lines = []
    for name in files.names("var/log"):
        if _NAME.fullmatch(name) and (text := _text(files, f"var/log/{name}")) is not None:
            lines.append(text)
    if not lines:
        return None
    whole = pl.concat(lines)
    accepted = _taken_apart(whole, _ACCEPTED, ("how", "account", "origin", "type", "key"), zone, at)
    failed = _taken_apart(whole, _FAILED, ("how", "account", "origin"), zone, at)
    console = _taken_apart(whole, _CONSOLE, ("account",), zone, at)
    made = _taken_apart(whole, _MADE, ("account",), zone, at)
    asked = _taken_apart(whole, _HEAD + sudo_log.SUDO, ("process", "account", "refused", "as_whom"), zone, at)
    closings = _taken_apart(whole, _HEAD + sudo_log.CLOSED, ("process",), zone, at)
    _tell(
        files,
        whole,
        {
            "sign-ins": accepted,
            "failures": failed,
            "at the console": console,
            "accounts made": made,
            "uses of sudo": asked,
            "ends of these": closings,
        },
    )
    nothing = pl.lit(None, dtype=pl.String)
    events = pl.concat(
        [
            _events(accepted, "success", nothing, _proof(accepted), pl.col("origin")),
            _events(failed, "failure", pl.lit("refused: ") + pl.col("how"), _proof(failed), pl.col("origin")),
            _events(console, "success", nothing, pl.lit(["password"], dtype=_WORDS), pl.lit("console")),
        ]
    )
    used = accepted.drop_nulls(["key", "at"]).group_by("account", "key").agg(pl.col("at").max())
    created = made.drop_nulls("at").group_by("account").agg(pl.col("at").max())
    return Logged(
        events,
        sudo_log.elevations(asked, closings),
        {(account, key): instant for account, key, instant in used.iter_rows()},
        dict(created.iter_rows()),
    )


def _text(files: HostFiles, path: str) -> pl.Series | None:
    data = files.bytes_of(path)
    if data is None:
        return None
    if path.endswith(".gz"):
        try:
            data = gzip.decompress(data)
        except (OSError, EOFError, zlib.error) as error:
            files.refuse("sign-in", path, 0, f"it cannot be unpacked: {error}")
            return None
    text = data.decode("utf-8", "replace")
    return pl.Series(text.split("\n"), dtype=pl.String) if text else pl.Series([], dtype=pl.String)


def _taken_apart(
    lines: pl.Series, pattern: str, names: tuple[str, ...], zone: str, at: datetime
) -> pl.DataFrame:
    """The lines that fit a pattern: its parts by name, its place as `line`, and `at` (null: no such time)."""
    numbered = lines.alias("text").to_frame().with_row_index("line")
    fitting = numbered.filter(pl.col("text").str.contains(pattern))
    parts = fitting.select("line", pl.col("text").str.extract_groups(pattern).alias("p")).unnest("p")
    parts = parts.rename(dict(zip(parts.columns[1:], ("full", "short", *names), strict=True)))
    return parts.with_columns(_instant(zone, at)).drop("full", "short")


def _instant(zone: str, at: datetime) -> pl.Expr:
    offset = pl.col("full").str.replace("Z$", "+00:00")
    full = offset.str.to_datetime("%Y-%m-%dT%H:%M:%S%.f%z", time_unit="us", strict=False)

    def in_year(year: int) -> pl.Expr:
        text = pl.concat_str(pl.lit(f"{year} "), pl.col("short").str.replace("  ", " 0", literal=True))
        plain = text.str.to_datetime("%Y %b %d %H:%M:%S", time_unit="us", strict=False)
        local = plain.dt.replace_time_zone(zone, ambiguous="earliest", non_existent="null")
        return local.dt.convert_time_zone("UTC")

    this_year = in_year(at.year)
    short = pl.when(this_year <= at + timedelta(days=1)).then(this_year).otherwise(in_year(at.year - 1))
    return pl.coalesce(full.dt.convert_time_zone("UTC"), short).cast(_INSTANT).alias("at")


def _proof(lines: pl.DataFrame) -> pl.Expr:
    """The factor kinds that a way of signing in shows."""
    how = pl.col("how")
    hardware = pl.col("type").str.contains("-SK", literal=True) if "type" in lines.columns else pl.lit(False)
    return (
        pl.when(how == "publickey")
        .then(
            pl.when(hardware)
            .then(pl.lit(["hardware-key"], dtype=_WORDS))
            .otherwise(pl.lit(["software-key"], dtype=_WORDS))
        )
        .when(how.str.contains("password|keyboard-interactive"))
        .then(pl.lit(["password"], dtype=_WORDS))
        .otherwise(pl.lit([], dtype=_WORDS))
    )


def _events(
    lines: pl.DataFrame, outcome: str, cause: pl.Expr, proof: pl.Expr, origin: pl.Expr
) -> pl.DataFrame:
    return lines.select(
        "account",
        "at",
        pl.lit(outcome).alias("outcome"),
        cause.alias("cause"),
        proof.alias("proof"),
        origin.alias("origin"),
    )


def _tell(files: HostFiles, lines: pl.Series, kinds: dict[str, pl.DataFrame]) -> None:
    whole = int((lines != "").sum())
    listed = ", ".join(f"{events.height:,} {kind}" for kind, events in kinds.items() if events.height)
    other = whole - sum(events.height for events in kinds.values())
    files.remark(
        f"{files.folder}/var/log: {whole:,} lines of sign-in logs: {listed or 'none of use'};"
        f" {other:,} others"
    )
    timeless = sum(events["at"].null_count() for events in kinds.values())
    if timeless:
        files.remark(f"{files.folder}/var/log: {timeless:,} of them at a time that does not exist")
