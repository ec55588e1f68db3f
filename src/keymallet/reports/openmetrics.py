"""A report as OpenMetrics text, for a collector that reads files: few series, by rule, source and state."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import polars as pl

from keymallet.core.base.optional_packages import extra
from keymallet.reports.content import Content
from keymallet.reports.registry import Look


def write(content: Content, look: Look) -> bytes:
    """The text. Raises KeymalletError if the package for metrics is not installed."""
    client: Any = extra("prometheus_client", "reports", "reports as OpenMetrics")
    from prometheus_client.openmetrics import exposition

    registry = client.CollectorRegistry()
    registry.register(_Collector(content))
    written: Any = exposition.generate_latest
    data: bytes = written(registry)
    return data


class _Collector:
    """What the run came to, as families of gauges."""

    def __init__(self, content: Content) -> None:
        self.content = content

    def collect(self) -> Iterator[Any]:
        """The families, in an order that does not change."""
        from prometheus_client.core import GaugeMetricFamily

        content = self.content
        labels = ["organisation"]
        whose = [content.organisation]

        def single(name: str, told: str, value: float) -> Any:
            family = GaugeMetricFamily(f"keymallet_{name}", told, labels=labels)
            family.add_metric(whose, value)
            return family

        yield single("judged_timestamp_seconds", "The instant that was judged at.", content.at.timestamp())
        yield single(
            "read_timestamp_seconds", "The instant the evidence was read at.", content.read_at.timestamp()
        )
        age = (content.at - content.read_at).total_seconds()
        yield single("evidence_age_seconds", "How old the evidence was then.", age)
        yield single("gaps", "Reasons why the evidence is incomplete.", content.gaps_of_all)
        if not content.narrowed:
            yield single("unproven", "Verdicts that could not be given.", content.unproven)
            blind = len(content.not_judged)
            yield single("rules_not_judged", "Rules that could be judged for nobody.", blind)
            yield single("records_not_read", "Records that could not be read.", content.refused)
        by_rule = GaugeMetricFamily(
            "keymallet_findings",
            "Findings in breach, by rule.",
            labels=[*labels, "rule", "topic", "severity"],
        )
        late = GaugeMetricFamily(
            "keymallet_findings_late", "Findings past their due date, by rule.", labels=[*labels, "rule"]
        )
        counted, overdue = content.by("rule"), _by(content.late, "rule")
        for rule in sorted(content.rules, key=lambda each: each.id):
            by_rule.add_metric([*whose, rule.id, rule.topic, rule.severity], counted.get(rule.id, 0))
            late.add_metric([*whose, rule.id], overdue.get(rule.id, 0))
        yield by_rule
        yield late
        sources = GaugeMetricFamily(
            "keymallet_source_findings", "Findings in breach, by source.", labels=[*labels, "source"]
        )
        for source, number in sorted(_by(content.broken, "source").items()):
            sources.add_metric([*whose, source], number)
        yield sources


def _by(frame: pl.DataFrame, column: str) -> dict[str, int]:
    counted = frame[column].fill_null("").value_counts()
    return {str(value): int(number) for value, number in counted.iter_rows()}
