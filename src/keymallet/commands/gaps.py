"""The one list of what is not known of the evidence: every gap is found and worded here."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from fnmatch import fnmatchcase

from keymallet.core.base.listing import how_many, some_names
from keymallet.core.base.source_names import is_of
from keymallet.core.facts.declaration import EXEMPTION
from keymallet.core.facts.gaps import AcceptedGap, Gap
from keymallet.core.judging.judge import Judgement
from keymallet.core.language import typed
from keymallet.core.language.literals import span_text
from keymallet.core.rulebook.model import Rule, Severity
from keymallet.sources.estate import Accepted, Estate
from keymallet.store.attempts import Attempt, last_attempt
from keymallet.store.newest import Found
from keymallet.store.snapshot import Snapshot, SourceRecord
from keymallet.views.intake import emptied, shrunk, strays


def of_snapshot(snapshot: Snapshot, estate: Estate | None, at: datetime) -> Iterator[Gap]:
    """What was not read, or cannot be relied on at the instant judged at."""
    for name, source in snapshot.manifest.sources.items():
        yield from of_source(name, source)
        if source.read_at > at:
            when = f"{source.read_at:%Y-%m-%d %H:%M}Z"
            yield Gap("read-later", name, f"{name}: read {when}, after the instant judged at")
    for declared in estate.sources if estate else ():
        read = [
            source.read_at for name, source in snapshot.manifest.sources.items() if is_of(name, declared.name)
        ]
        if not read:
            yield Gap("not-in-snapshot", declared.name, f"{declared.name}: not in the snapshot")
        elif declared.stale_after is not None and at - min(read) > declared.stale_after:
            age = timedelta(hours=(at - min(read)) // timedelta(hours=1))
            text = f"read {span_text(age)} before, more than {span_text(declared.stale_after)}"
            yield Gap("too-old", declared.name, f"{declared.name}: {text}")


def of_source(name: str, source: SourceRecord) -> Iterator[Gap]:
    """What one source did not give."""
    if source.failed:
        yield Gap("not-read", name, f"{name}: not read: {source.failed}")
    for kind, texts in (
        ("cut-short", source.incomplete),
        ("referral", source.referrals),
        ("no-rows", source.empty_files),
    ):
        for text in texts:
            yield Gap(kind, name, f"{name}: {text}")
    refused = sum(intake.refused for intake in source.intake.values())
    if refused:
        yield Gap("refused", name, f"{name}: {how_many(refused, 'record')} refused")
    unreadable = sum(intake.unreadable for intake in source.intake.values())
    if unreadable:
        yield Gap("unreadable", name, f"{name}: {how_many(unreadable, 'cell')} not understood")
    for text in strays(source.intake):
        yield Gap("strays", name, f"{name}: {text}")
    for text in emptied(source.emptied):
        yield Gap("emptied", name, f"{name}: {text}")
    for text in shrunk(source):
        yield Gap("shrunk", name, f"{name}: {text}")


def of_folder(found: Found, estate: Estate) -> Iterator[Gap]:
    """What lies beside the newest snapshot that puts it in doubt: a failed reading, one from after now."""
    if found.from_future:
        number = how_many(len(found.from_future), "snapshot")
        text = f"{number} from after now passed over: {some_names(found.from_future)}"
        yield Gap("from-future", estate.snapshots.name, text)
    last = last_attempt(estate.snapshots, estate.identity)
    digest = found.snapshot.digest if found.snapshot else ""
    if last is not None and last.snapshot != digest:
        yield Gap("failed-reading", estate.snapshots.name, _became_of(last))


def _became_of(last: Attempt) -> str:
    when = f"the last reading, begun {last.began:%Y-%m-%d %H:%M}Z,"
    if last.failed:
        return f"{when} failed: {last.failed}"
    if last.snapshot:
        return f"{when} made a snapshot that is not there any more"
    return f"{when} did not end"


def of_judgement(judgement: Judgement, fail_on: Severity | None) -> Iterator[Gap]:
    """Rules that found nothing to judge for want of a source, and those that are unproven.

    Only those of `fail_on` and above: nothing else decides whether all is well. None: none.
    """
    if fail_on is None:
        return
    unsupplied: dict[str, list[str]] = {}
    for count in judgement.counts():
        rule = count.rule
        if rule.severity < fail_on:
            continue
        if count.unproven:
            text = f"{rule.id}: unproven for {count.unproven:,} of {count.in_scope:,}"
            yield Gap("unproven", rule.id, text)
        elif isinstance(rule, Rule) and not count.in_scope:
            for want in _wanting(judgement, rule):
                unsupplied.setdefault(want, []).append(rule.id)
    for want, rules in unsupplied.items():
        number = how_many(len(rules), "rule has", "rules have")
        yield Gap("nothing-to-judge", want, f"{number} nothing to judge: {want}: {some_names(rules)}")


def _wanting(judgement: Judgement, rule: Rule) -> Iterator[str]:
    """What is missing, if anything is, where a rule is for nobody."""
    if rule.table != EXEMPTION.name and not judgement.evidence.suppliers(rule.table):
        yield f"no source supplies {rule.table}"
        return
    for node in rule.who.walk():
        if (
            isinstance(node, typed.Compare)
            and node.operator == "="
            and isinstance(node.left, typed.Fact)
            and node.left.column.name == "source"
            and isinstance(node.right, typed.Const)
            and not any(is_of(source, str(node.right.value)) for source in judgement.evidence.sources)
        ):
            yield f'there is no source "{node.right.value}"'


def sorted_out(
    gaps: Iterable[Gap], accepted: Iterable[Accepted], at: datetime
) -> tuple[list[Gap], list[AcceptedGap]]:
    """The gaps that count, and those that the estate accepts at the instant judged at."""
    in_force = [entry for entry in accepted if at < entry.until]
    counting, taken = [], []
    for gap in gaps:
        for entry in in_force:
            if entry.gap == gap.gap and fnmatchcase(gap.about, entry.about):
                taken.append(AcceptedGap(gap.gap, gap.about, gap.text, entry.reason, entry.until))
                break
        else:
            counting.append(gap)
    return counting, taken
