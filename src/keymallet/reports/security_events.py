"""A report as events of the Open Cybersecurity Schema Framework (OCSF 1.6), for security event pipelines.

Each event is a JSON object on a line. The first is a Scan Activity (class 6007) of the run, which says what
all rests on; each other is a Compliance Finding (class 2003) and names that run by its head.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec
import polars as pl

from keymallet.outputs.formats import FORMATS
from keymallet.outputs.values import OutputRows
from keymallet.reports import rows
from keymallet.reports.content import Content, basis
from keymallet.reports.registry import Look

VERSION = "1.6.0"
_CLASS, _CATEGORY = 2003, 2
_CREATE, _UPDATE = 1, 2
_SCAN, _APPLICATION, _COMPLETED, _OTHER, _INFORMATIONAL = 6007, 6, 2, 99, 1
_PRODUCT = "Keymallet"
_SEVERITY = {"low": 2, "medium": 3, "high": 4, "critical": 5}
_NAMES = {"low": "Low", "medium": "Medium", "high": "High", "critical": "Critical"}
_NEW, _SUPPRESSED = 1, 3
_UNKNOWN, _FAIL = 0, 3


def write(content: Content, look: Look) -> Iterator[bytes]:
    """A line a finding; times in milliseconds since 1970."""
    yield msgspec.json.encode(_scan(content)) + b"\n"
    events = (_events(content, part) for part in rows.tables(content))
    yield from FORMATS["jsonl"].write(OutputRows(events, {}, "events"))


def _events(content: Content, findings: pl.DataFrame) -> pl.DataFrame:
    """Findings as events."""
    severity = pl.col("severity")
    begins = pl.col("state").is_in(["new", "back", "exemption ended"])
    exempt, unseen = pl.col("state") == "exempt", pl.col("state") == "not seen"
    cites = {rule.id: list(rule.cite) for rule in content.rules}
    activity = pl.when(begins).then(_CREATE).otherwise(_UPDATE)
    at = int(content.at.timestamp() * 1000)
    told = findings.with_columns(*map(rows.milliseconds, rows.instants()))
    return told.select(
        pl.lit(_CLASS).alias("class_uid"),
        pl.lit("Compliance Finding").alias("class_name"),
        pl.lit(_CATEGORY).alias("category_uid"),
        pl.lit("Findings").alias("category_name"),
        activity.alias("activity_id"),
        (activity + _CLASS * 100).alias("type_uid"),
        pl.lit(at).alias("time"),
        severity.replace_strict(_SEVERITY, return_dtype=pl.Int64).alias("severity_id"),
        severity.replace_strict(_NAMES, return_dtype=pl.String).alias("severity"),
        pl.when(exempt).then(_SUPPRESSED).otherwise(_NEW).alias("status_id"),
        _text("because", "title").alias("message"),
        _metadata(content).alias("metadata"),
        pl.struct(
            pl.col("finding-id").alias("uid"),
            _text("title", "rule").alias("title"),
            _text("because", "title").alias("desc"),
            pl.coalesce("first-seen", pl.lit(at)).alias("first_seen_time"),
            pl.lit(at).alias("last_seen_time"),
            pl.coalesce("first-seen", pl.lit(at)).alias("created_time"),
            pl.when(pl.col("source").is_null())
            .then(pl.lit([], dtype=pl.List(pl.String)))
            .otherwise(pl.concat_list("source"))
            .alias("data_sources"),
        ).alias("finding_info"),
        pl.struct(
            pl.col("rule").alias("control"),
            pl.lit([content.rulebook]).alias("standards"),
            pl.col("rule")
            .replace_strict(cites, default=[], return_dtype=pl.List(pl.String))
            .alias("requirements"),
            pl.when(unseen).then(_UNKNOWN).otherwise(_FAIL).alias("status_id"),
            pl.col("state").alias("status_detail"),
        ).alias("compliance"),
        pl.concat_list(
            pl.struct(
                pl.coalesce("account", pl.lit("all accounts")).alias("uid"),
                _text("display", "account").alias("name"),
                pl.when(pl.col("subject").fill_null("") == "")
                .then(pl.lit("account"))
                .otherwise(pl.format("account, {}", pl.col("subject").fill_null("")))
                .alias("type"),
                pl.struct(pl.coalesce("answerer", pl.lit("nobody")).alias("name")).alias("owner"),
            )
        ).alias("resources"),
        pl.struct(_text("change", "title").alias("desc")).alias("remediation"),
        pl.struct("state", "cause", "unit", "due", "late-by-seconds", "times-back").alias("unmapped"),
    )


def _scan(content: Content) -> dict[str, Any]:
    """The run, as a scan that was completed."""
    labels = [f"{what}: {value}" for what, value in basis(content)]
    labels += [f"the evidence is incomplete: {gap}" for gap in content.gaps]
    labels += [f"limited to: {said}" for said in content.narrowed]
    return {
        "class_uid": _SCAN,
        "class_name": "Scan Activity",
        "category_uid": _APPLICATION,
        "category_name": "Application Activity",
        "activity_id": _COMPLETED,
        "type_uid": _SCAN * 100 + _COMPLETED,
        "time": int(content.at.timestamp() * 1000),
        "severity_id": _INFORMATIONAL,
        "severity": "Informational",
        "message": content.verdict(),
        "num_detections": content.broken.height,
        "metadata": {
            "version": VERSION,
            "product": {"name": _PRODUCT, "vendor_name": _PRODUCT, "version": content.keymallet},
            "correlation_uid": content.head,
            "labels": labels,
        },
        "scan": {"name": content.rulebook, "uid": content.head, "type_id": _OTHER, "type": "Judgement"},
        "policy": {"name": content.rulebook, "version": content.edition, "uid": content.digests[0].digest},
    }


def _text(*names: str) -> pl.Expr:
    """The first of these columns that says anything."""
    filled = [pl.when(pl.col(name) != "").then(pl.col(name)) for name in names]
    return pl.coalesce(*filled, pl.lit("not known"))


def _metadata(content: Content) -> pl.Expr:
    """Which product an event is of, and which run."""
    return pl.struct(
        pl.lit(VERSION).alias("version"),
        pl.struct(
            pl.lit(_PRODUCT).alias("name"),
            pl.lit(_PRODUCT).alias("vendor_name"),
            pl.lit(content.keymallet).alias("version"),
        ).alias("product"),
        pl.lit(content.head).alias("correlation_uid"),
    )
