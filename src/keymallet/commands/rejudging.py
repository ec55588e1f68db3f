"""Judging a run again from what was kept of it, and holding it against what it came to then."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from zoneinfo import ZoneInfo

from keymallet.commands.judging_inputs import history_facts
from keymallet.commands.logbooks import read_kept_register, read_kept_rulebook
from keymallet.core.judging.judge import Judgement, judge
from keymallet.core.judging.register_facts import facts_for
from keymallet.core.language.typed import Typed
from keymallet.core.rulebook.model import Rulebook
from keymallet.core.rulebook.register import Register
from keymallet.store.logbook.records import NUMBERS, RunRecord
from keymallet.store.snapshot import Snapshot


def judged_as_kept(record: RunRecord, texts: Mapping[str, str], snapshot: Snapshot) -> Judgement:
    """A run judged again by these texts, on this snapshot."""
    return judged_by(record, read_kept_rulebook(record, texts), read_kept_register(record, texts), snapshot)


def judged_by(
    record: RunRecord,
    book: Rulebook,
    register: Register | None,
    snapshot: Snapshot,
    asked: Iterable[tuple[str, Typed]] = (),
) -> Judgement:
    """A run judged again by its rulebook and register; `asked` is what will be asked of it besides."""
    expressions = [*book.expressions(), *asked]
    used = facts_for(expressions, history_facts(book), with_register=register is not None)
    return judge(snapshot.evidence(used), book, record.judged_at, ZoneInfo(record.clock), register)


def differing_rules(record: RunRecord, again: Judgement) -> list[str]:
    """The rules that come to other numbers than they did."""
    now = {count.rule.id: tuple(getattr(count, name) for name in NUMBERS) for count in again.counts()}
    then = record.numbers
    return [rule for rule in {**then, **now} if then.get(rule) != now.get(rule)]
