"""The report of lockouts: who is locked, until when, what lifts it, who is near."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from keymallet.core.topics.report import STATE
from tests.core.topics.support import of_each, report_of, sentences, worded
from tests.support import AT, days_ago, evidence

SETTING = [
    {
        "setting": "s",
        "applies_to": ["everyone"],
        "lock_after": 10,
        "lock_for": timedelta(minutes=30),
        "count_within": None,
    }
]


def account(name: str, **more: Any) -> dict[str, Any]:
    return {
        "name": name, "kind": "person", "enabled": True, "locked": False, "locked_until": None, "lock_stops": None,
        "failed_attempts": 0, "groups": [], "lock_cause": None, "privileged": False, "password_lapses": None, **more,
    }  # fmt: skip


def test_each_state() -> None:
    """Locked, locked in name only, near it, run out; what is switched off is not counted."""
    accounts = [
        account("open"), account("locked", locked=True), account("half", failed_attempts=5), account("less", failed_attempts=4),
        account("over", locked=True, locked_until=days_ago(1), failed_attempts=10),
        account("key", locked=True, lock_stops="password"), account("session", locked=True),
        account("off", locked=True, enabled=False), account("unknown", locked=None, locked_until=None),
    ]  # fmt: skip
    keys = [{"of": 5, "kind": "ssh-key", "state": "active", "expires": None},
            {"of": 6, "kind": "session", "state": "active", "expires": AT + timedelta(hours=1)},
            {"of": 1, "kind": "ssh-key", "state": "active", "expires": None},
            {"of": 1, "kind": "session", "state": "active", "expires": days_ago(1)}]  # fmt: skip
    report = report_of("lockouts", evidence(accounts, key=keys, setting=SETTING))
    assert of_each(report, STATE) == {
        "open": "not locked", "locked": "locked", "half": "near it", "less": "not locked", "over": "run out",
        "key": "gets in", "session": "gets in", "unknown": "unproven",
    }  # fmt: skip
    assert dict(worded(report).select("account", "failed").iter_rows())["d/half"] == "5 of 10"


def test_until_when_and_what_lifts_it() -> None:
    """By itself at an hour, or by somebody: for power and emergencies a stronger hand."""
    soon = AT + timedelta(minutes=20)
    accounts = [
        account("timed", locked=True, locked_until=soon, lock_cause="failed-attempts"), account("plain", locked=True),
        account("admin", locked=True, privileged=True), account("safe", locked=True, kind="emergency"), account("open"),
    ]  # fmt: skip
    report = report_of("lockouts", evidence(accounts, setting=SETTING))
    assert of_each(report, "ends") == {
        "timed": "by itself", "plain": "when lifted", "admin": "when lifted", "safe": "when lifted", "open": None,
    }  # fmt: skip
    assert of_each(report, "unlocked by") == {
        "timed": "by itself", "plain": "service desk", "admin": "administrator", "safe": "administrator", "open": None,
    }  # fmt: skip
    assert of_each(report, "until")["timed"] == soon
    assert dict(worded(report).select("account", "lasts").iter_rows()) == {
        "d/timed": "2026-11-24 10:20", "d/plain": "needs the service desk", "d/admin": "needs an administrator",
        "d/safe": "needs an administrator", "d/open": None,
    }  # fmt: skip
    assert sentences(report)[0] == "4 accounts locked: 3 cause not known, 1 by failures."
    assert (
        sentences(report)[1] == "3 of them stay locked until somebody unlocks them, 2 need an administrator."
    )
    titles = [section.name for section in report.sections]
    assert titles == ["settings", "exposed"]


def test_settings_against_the_book() -> None:
    """Too late, never, too short; a lock that only somebody lifts is not too short."""
    limits = '[limits]\nlock-after = 10\nlock-for = "30min"\n'
    settings = [
        {"setting": name, "applies_to": ["everyone"], "lock_after": after, "lock_for": span}
        for name, after, span in (
            ("good", 10, timedelta(minutes=30)), ("late", 11, None), ("never", None, None),
            ("short", 5, timedelta(minutes=29)), ("both", 11, timedelta(minutes=1)),
        )
    ]  # fmt: skip
    (section,) = report_of("lockouts", evidence([account("a")], setting=settings), limits).sections
    told = dict(section.rows.select("setting", "against the rulebook").iter_rows())
    assert told == {
        "good": [],
        "late": ["late, or never"],
        "never": ["late, or never"],
        "short": ["too short"],
        "both": ["late, or never", "too short"],
    }


def test_the_window_against_the_book() -> None:
    """Failures that are counted together too briefly never add up."""
    limits = '[limits]\ncounted-within = "15min"\n'
    settings = [{"setting": name, "applies_to": ["everyone"], "lock_after": 5, "count_within": within}
                for name, within in (("brief", timedelta(minutes=14)), ("long", timedelta(minutes=15)), ("any", None))]  # fmt: skip
    (section,) = report_of("lockouts", evidence([account("a")], setting=settings), limits).sections
    told = dict(section.rows.select("setting", "against the rulebook").iter_rows())
    assert told == {"brief": ["counts too briefly"], "long": [], "any": []}


def test_what_failed_after_the_instant_is_not_known_then() -> None:
    """Judged at an earlier day, later failures are not there."""
    failed = [{"of": 0, "at": days_ago(day), "outcome": "failure", "origin": "x"} for day in (1, 3, 5)]
    found = evidence([account("a")], sign_in=failed)
    assert "3 failed sign-ins since 2026-11-19" in sentences(report_of("lockouts", found))[-1]
    assert "2 failed sign-ins since" in sentences(report_of("lockouts", found, at=days_ago(2)))[-1]


def test_a_failure_at_the_very_instant_counts() -> None:
    """What is judged at an instant includes it, and nothing after it."""
    events = [
        {"of": 0, "at": AT + timedelta(seconds=n), "outcome": "failure", "origin": "h"} for n in (-1, 0, 1)
    ]
    found = report_of("lockouts", evidence([{"name": "a", "enabled": True}], sign_in=events))
    assert found.numbers["failures"] == 2
