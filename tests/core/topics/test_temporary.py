"""The report of temporary access: accounts, passwords and keys, each with its own end."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from keymallet.core.topics.report import STATE, TopicReport
from keymallet.core.topics.temporary import WEEKS, WEEKS_BACK
from tests.core.topics.support import of_each, report_of
from tests.support import AT, days_ago, evidence

PEOPLE = [
    {"person": "0", "contract": "staff", "status": "present", "leaves": None},
    {"person": "1", "contract": "contractor", "status": "present", "leaves": AT + timedelta(days=40)},
    {"person": "2", "contract": "contractor", "status": "present", "leaves": None},
    {"person": "3", "contract": "staff", "status": "left", "leaves": days_ago(3)},
    {"person": "4", "contract": "staff", "status": "expected", "leaves": None},
]


def account(name: str, person: int | None = 0, **more: Any) -> dict[str, Any]:
    return {
        "name": name, "kind": "person", "enabled": True, "ends": None, "starts": None, "has_password": True,
        "password_expires": None, "of": person, "on_roster": person is not None, "privileged": False, **more,
    }  # fmt: skip


def report(
    accounts: list[dict[str, Any]], keys: list[dict[str, Any]] | None = None, limits: str = ""
) -> TopicReport:
    return report_of("temporary", evidence(accounts, person=PEOPLE, key=keys or [], elevation=[]), limits)


def amiss(found: TopicReport, what: str = "account") -> dict[str, list[str]]:
    rows = found.rows.filter(found.rows["what"] == what)
    return {name.removeprefix("d/"): words for name, words in rows.select("account", "problems").iter_rows()}


def test_accounts_with_an_end_and_without() -> None:
    """Only those that are here for a while are in it; each fault by its name."""
    accounts = [
        account("staff"), account("fine", 1, ends=AT + timedelta(days=40)),
        account("longer", 1, ends=AT + timedelta(days=42)), account("endless", 2),
        account("past", ends=AT), account("gone", 3), account("off", 3, enabled=False), account("early", 4),
        account("later", starts=AT + timedelta(days=1), ends=AT + timedelta(days=9)),
        account("guest", None, kind="guest"),
    ]  # fmt: skip
    found = report(accounts)
    assert amiss(found) == {
        "fine": [], "longer": ["longer than the contract"], "endless": ["no end"], "past": ["past its end"],
        "gone": ["of somebody who left"], "early": ["before its start"], "later": ["before its start"],
        "guest": ["no end"],
    }  # fmt: skip
    states = of_each(found, STATE)
    assert (states["past"], states["gone"]) == ("outlives its end", "outlives its end")
    assert states["fine"] == "in order" and states["guest"] == "to correct"


def key(kind: str, of: int = 0, **more: Any) -> dict[str, Any]:
    return {
        "of": of, "kind": kind, "key": kind, "state": "active", "issued": days_ago(1), "starts": None,
        "expires": AT + timedelta(days=1), "last_used": None, "uses_left": None, "superseded_by": None, **more,
    }  # fmt: skip


def test_what_is_handed_out() -> None:
    """Good after use, after a newer one, more than once, for too long, for an administrator."""
    plain = [account("a"), account("admin", privileged=True)]
    for more, told in (
        ({}, []),
        ({"last_used": days_ago(0.5)}, ["good after use"]),
        ({"superseded_by": "x"}, ["good after a newer one"]),
        ({"uses_left": 2}, ["good more than once"]),
        ({"uses_left": 1}, []),
        ({"expires": AT + timedelta(days=2)}, []),
        ({"expires": AT + timedelta(days=2, seconds=1)}, ["good for too long"]),
        ({"expires": None}, ["no end"]),
        ({"of": 1}, ["for an administrator"]),
    ):
        for kind in ("invitation", "reset-link", "entry-code"):
            assert list(amiss(report(plain, [key(kind, **more)]), kind).values()) == [told], (kind, more)
    stricter = report(plain, [key("invitation")], '[limits]\nhanded-out = "1d"')
    assert list(amiss(stricter, "invitation").values()) == [["good for too long"]]


def test_keys_that_last() -> None:
    """Too old, never used, no longer used; of who is switched off or past the end."""
    accounts = [
        account("a"),
        account("off", enabled=False),
        account("past", ends=days_ago(1)),
        account("guest", None, kind="guest"),
    ]
    endless = {"expires": None}
    for given, told in (
        (key("api-key", last_used=days_ago(1), issued=days_ago(180), **endless), []),
        (key("api-key", last_used=days_ago(1), issued=days_ago(181), **endless), ["too old"]),
        (key("api-key", issued=days_ago(31), **endless), ["never used"]),
        (key("app-password", last_used=days_ago(91), issued=days_ago(99), **endless), ["no longer used"]),
        (key("ssh-key", 1, **endless), ["of a switched-off account"]),
        (key("ssh-key", 2, **endless), ["of an ended account"]),
        (key("ssh-key", 3, **endless), ["no end"]),
        (key("ssh-key", 0, issued=days_ago(999), **endless), []),
        (key("session", issued=AT, expires=AT + timedelta(hours=12)), []),
        (key("session", issued=AT, expires=AT + timedelta(hours=12, seconds=1)), ["good for too long"]),
        (key("ssh-certificate", starts=AT, expires=AT + timedelta(days=91)), ["good for too long"]),
    ):
        assert list(amiss(report(accounts, [given]), str(given["kind"])).values()) == [told], given
    for over in ({"state": "revoked"}, {"expires": AT}, {"starts": AT + timedelta(days=1)}):
        assert amiss(report(accounts, [key("session", **over)]), "session") == {}


def test_two_keys_where_one_would_do() -> None:
    """Two that work; one that is revoked does not count."""
    fresh = {"expires": None, "last_used": days_ago(0.5)}
    two = report([account("a")], [key("api-key", **fresh), key("api-key", key="2", **fresh)])
    assert two.rows.filter(two.rows["what"] == "api-key")["problems"].to_list() == [["one of several"]] * 2
    one = report([account("a")], [key("api-key", **fresh), key("api-key", key="2", state="revoked", **fresh)])
    assert amiss(one, "api-key") == {"a": []}


def test_three_ends_are_told_apart() -> None:
    """Of the account, of its password, of its last key; and what is open past the first."""
    accounts = [
        account("past", ends=days_ago(2), password_expires=AT + timedelta(days=5)),
        account("off", ends=days_ago(2), enabled=False),
        account("ahead", ends=AT + timedelta(seconds=1)),
        account("just-now", ends=AT),
    ]
    keys = [key("ssh-key", expires=AT + timedelta(days=9)), key("session"), key("session", 1)]
    found = report(accounts, keys)
    (section,) = [each for each in found.sections if each.name == "still-open"]
    assert section.rows.rows() == [
        ("d/off", days_ago(2), None, AT + timedelta(days=1), False, 0, 1, 0),
        (
            "d/past",
            days_ago(2),
            AT + timedelta(days=5),
            AT + timedelta(days=9),
            *(True, 1, 1, 0),
        ),
        ("d/just-now", AT, None, None, True, 0, 0, 0),
    ]
    strip = found.drawn["ends"].rows()
    assert strip == [("account", -2, 1), ("account", 0, 2), ("key", 1, 2), ("key", 9, 1), ("password", 5, 1)]


def test_what_may_be_amiss_is_not_in_order() -> None:
    """A key of which nobody tells when it was issued."""
    unknown = {name: value for name, value in key("api-key").items() if name not in ("issued", "last_used")}
    found = report([account("a")], [unknown])
    assert found.rows.filter(found.rows["what"] == "api-key")[STATE].to_list() == ["unproven"]


def test_the_strip_of_ends_reaches_as_far_as_it_says() -> None:
    """Its first and last day are on it, the days beyond are not."""
    days = [-7 * WEEKS_BACK - 1, -7 * WEEKS_BACK, 0, 7 * WEEKS, 7 * WEEKS + 1]
    accounts = [account(f"a{place}", None, ends=days_ago(-day)) for place, day in enumerate(days)]
    drawn = report_of("temporary", evidence(accounts, key=[])).drawn["ends"]
    assert sorted(drawn["day"]) == days[1:-1]
