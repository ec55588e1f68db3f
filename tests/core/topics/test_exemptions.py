"""The register: the state of each entry, what is amiss with it, emergency accounts, whom gates leave out."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from keymallet.core.judging.judge import judge
from keymallet.core.rulebook.reading import read_rulebook
from keymallet.core.rulebook.register import read_register
from keymallet.core.topics.registry import TOPICS
from keymallet.core.topics.report import STATE, TopicReport, work_out
from keymallet.views.topic_words.registry import WORDS
from tests.core.topics.support import ANY_RULE
from tests.support import AT, CLOCK, evidence

WHY = 'reason = "Tills are opened by staff card and never typed."\nasked-by = "shop"\napproved-by = "board"\n'
REVIEWED = 'reviewed = 2026-11-01\nreview-every = "90d"\n'


def entry(
    name: str, more: str = "", kind: str = "technical", accounts: str = "d/till-*", rules: str = '["on"]'
) -> str:
    return f'[exemption.{name}]\nkind = "{kind}"\naccounts = ["{accounts}"]\nrules = {rules}\n{more}'


def report(register: str, accounts: list[dict[str, Any]], rules: str = "", **tables: Any) -> TopicReport:
    book = read_rulebook(f'title = "T"\n{ANY_RULE}{rules}', "r.toml")
    found = judge(evidence(accounts, **tables), book, AT, CLOCK, read_register(register, "x.toml", CLOCK))
    return work_out(TOPICS["exemptions"], found, book)


ON = '[rule.on]\ntitle = "On"\nmust = "enabled"\nseverity = "low"\n'
TILLS = [{"name": f"till-{n}", "enabled": n == 1} for n in range(3)]


def test_the_state_of_each_entry_and_what_is_amiss() -> None:
    """The worst first; each word once, for the entry it is true of."""
    end = "until = 2027-01-01\nmatched = 3\n"
    register = (
        entry("sound", WHY + REVIEWED + end)
        + entry("endless", WHY + REVIEWED + "matched = 3\n")
        + entry("unreviewed", WHY + end + 'reviewed = 2026-01-01\nreview-every = "90d"\n')
        + entry("own", (WHY + REVIEWED + end).replace("board", "shop"))
        + entry("nobody", WHY + REVIEWED + end, accounts="d/gone-*")
        + entry("no-rule", WHY + REVIEWED + end, rules='["off"]')
        + entry(
            "broader",
            WHY
            + REVIEWED
            + end.replace("3", "2", 1).replace("2027", "2027").replace("matched = 3", "matched = 2"),
        )
        + entry("hollow", REVIEWED + end + 'reason = "test"\nasked-by = "shop"\napproved-by = "board"\n')
        + entry("later", WHY + REVIEWED + end + "from = 2026-12-01\n")
        + entry("over", WHY + REVIEWED + "until = 2026-11-01\nmatched = 3\n")
        + entry("over-unneeded", WHY + REVIEWED + "until = 2026-11-01\nmatched = 1\n", accounts="d/till-1")
    ).replace("until = 2027-01-01\nmatched = 2\nmatched = 2", "until = 2027-01-01\nmatched = 2")
    found = report(register, TILLS, ON)
    rows = {row["exemption"]: row for row in found.rows.iter_rows(named=True)}
    states = {name: row[STATE] for name, row in rows.items()}
    assert states == {
        "sound": "holds", "endless": "to correct", "unreviewed": "to correct", "own": "to correct", "nobody": "to correct", "no-rule": "to correct",
        "broader": "to correct", "hollow": "to correct", "later": "not yet", "over": "ended, still relied on", "over-unneeded": "ended",
    }  # fmt: skip
    amiss = {name: row["problems"] for name, row in rows.items() if row["problems"]}
    assert amiss == {
        "endless": ["no end"], "unreviewed": ["review is due"], "own": ["approved by whom it serves"], "nobody": ["covers nobody"],
        "no-rule": ["names no rule", "nothing needs it"], "broader": ["covers more than approved"], "hollow": ["no real reason"],
    }  # fmt: skip
    assert {name: (row["covers"], row["excuses"]) for name, row in rows.items() if name in ("sound", "nobody", "over-unneeded")} == {
        "sound": (3, 2), "nobody": (0, 0), "over-unneeded": (1, 0),
    }  # fmt: skip
    assert next(iter(rows)) == "over" and list(rows)[-1] == "over-unneeded"
    words = WORDS["exemptions"]
    assert words.headline(found) == "8 of 11 entries of the register need attention"
    told = words.sentences(found, CLOCK)
    assert told[0] == "11 entries: 8 in force, which make 2 breaches exempt."
    assert "2 breaches were covered by entries that have ended." in told
    assert told[-1] == "The next to end is sound, on 2027-01-01." or "2027-01-01" in told[-1]


def test_emergency_accounts_and_what_is_amiss_with_them() -> None:
    """One in order, and one with everything against it."""
    sound = {"kind": "emergency", "enabled": True, "has_password": True, "locked": False, "starts": None, "ends": None,
             "password_lapses": None, "password_locked": False}  # fmt: skip
    accounts = [
        {**sound, "name": "glass", "last_sign_in": AT - timedelta(days=30), "covered_by": []},
        {
            **sound,
            "name": "spare",
            "last_sign_in": AT - timedelta(days=3),
            "covered_by": ["all"],
            "locked": True,
        },
        {**sound, "name": "bare", "last_sign_in": AT - timedelta(days=3), "covered_by": []},
    ]
    factors = [
        {"of": 0, "kind": "hardware-key", "state": "active", "shared_with": []},
        {"of": 1, "kind": "otp", "state": "active", "shared_with": ["d/glass"]},
        {"of": 2, "kind": "otp", "state": "active", "shared_with": []},
    ]
    drilled = (AT - timedelta(days=30)).date()
    register = entry(
        "glass", WHY + f'drilled = {drilled}\nwatch = ["desk"]\n', kind="emergency", accounts="d/glass"
    )
    found = report(register, accounts, factor=factors, key=[])
    (section,) = [part for part in found.sections if part.name == "emergency"]
    rows = {row["account"]: row for row in section.rows.iter_rows(named=True)}
    assert (rows["d/glass"]["problems"], rows["d/glass"]["use-explained"], rows["d/glass"]["watched"]) == (
        [],
        True,
        True,
    )
    assert rows["d/spare"]["problems"] == [
        "never tried", "use not explained", "nobody is told", "no factor of its own that resists phishing",
        "shares a device", "a gate asks it for what it lacks",
    ]  # fmt: skip
    # Nothing asks it for what it lacks.
    assert rows["d/bare"]["problems"] == [
        "never tried", "use not explained", "nobody is told", "no factor of its own that resists phishing",
    ]  # fmt: skip
    assert WORDS["exemptions"].sections["emergency"].note(section, found) == "2 of 3 can be used"
    unknown = [{**sound, "name": "glass", "has_password": None, "covered_by": []}]
    found = report(register, unknown, factor=[], key=[])
    (section,) = [part for part in found.sections if part.name == "emergency"]
    told = WORDS["exemptions"].sections["emergency"].note(section, found)
    assert told == "0 of 1 can be used, 1 not known (data missing)"


def test_whom_a_gate_leaves_out_without_an_entry_that_names_it() -> None:
    """Gate by gate, with all their accounts; a switched-off one does not matter."""
    accounts = [
        {"name": "a", "enabled": True, "left_out_by": ["all", "night"]},
        {"name": "b", "enabled": True, "left_out_by": ["all"]},
        {"name": "c", "enabled": False, "left_out_by": ["all"]},
        {"name": "till-1", "enabled": True, "left_out_by": ["all"]},
    ]
    found = report(entry("tills", WHY + 'gates = ["a*"]\n', rules="[]"), accounts)
    (section,) = [part for part in found.sections if part.name == "unlisted"]
    assert section.rows.rows() == [("all", 2, ["d/a", "d/b"]), ("night", 1, ["d/a"])]
    assert not [
        part
        for part in report(entry("every", WHY + 'gates = ["*"]\n', accounts="*"), accounts).sections
        if part.name == "unlisted"
    ]
