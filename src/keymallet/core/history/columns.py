"""The columns of findings in runs: what each is known by, what is kept of it, and what outputs add."""

from __future__ import annotations

import polars as pl

from keymallet.core.facts.evidence import INSTANT

RULE_KEY, ACCOUNT_KEY, ROW_KEY, FINDING = "rule-key", "account-key", "row-key", "finding-id"

KEYS = (RULE_KEY, ACCOUNT_KEY, ROW_KEY)

ROW = "row"
"""The row of the rule's table, or of the numbers of a tally; null where a rule is judged of nobody."""

WHO = {name: pl.String() for name in ("account", "source", "name", "stable-id", "unit", "kind")}
"""What is kept of the account that a finding is on; null where it is on none, but for the source."""

LIFE = {
    "state": pl.String(),
    "first-seen": INSTANT,
    "open-since": INSTANT,
    "times-back": pl.Int64(),
    "cause": pl.String(),
}
"""What a run knows of the life of each finding: its state, when a run first saw it, from which run on it has
to be mended (later than the first where it came back), how often it came back, and what brought it here."""

TRANSITION = {
    FINDING: pl.String(),
    **dict.fromkeys(KEYS, pl.String()),
    "rule": pl.String(),
    "severity": pl.String(),
    **WHO,
    "was": pl.String(),
    "state": pl.String(),
    "cause": pl.String(),
    "first-seen": INSTANT,
    "times-back": pl.Int64(),
}
"""One change of a finding's state from one run to the next; `was` is empty for one that was not there."""

ENDED = {FINDING: pl.String(), "first-seen": INSTANT, "times-back": pl.Int64()}
"""Findings that ended in an earlier run: when one first saw each, and how often it had come back by then."""

CHANGED = pl.List(pl.Struct({"what": pl.String, "was": pl.String, "is": pl.String, "source": pl.String}))
"""What changed: its name, what it was and what it is (null where it was or is not there), and its source."""

ANSWERER, MAIL, NOBODY = "answerer", "answerer-mail", "nobody"

_LISTS = dict.fromkeys(("missing", "exemption"), pl.List(pl.String()))

TOLD = {
    **dict.fromkeys(("title", "subject", "display", "because", "change"), pl.String()),
    **_LISTS,
    "since": INSTANT,
    "until": INSTANT,
}
"""What `describe` says of a finding that is kept with it; TOLD_AT is the instant it was said of."""

TOLD_AT = "told-at"

COLUMNS = (
    FINDING,
    *KEYS,
    "rule",
    "severity",
    "verdict",
    *WHO,
    *TOLD,
    TOLD_AT,
    *LIFE,
    "due",
    ANSWERER,
    MAIL,
)

ADDED = (FINDING, "state", "first-seen", "due", "late-by", ANSWERER, "cause")
"""The columns that findings have in every output besides what `describe` says."""

ADDED_SCHEMA = {
    **dict.fromkeys(ADDED, pl.String()),
    "first-seen": INSTANT,
    "due": INSTANT,
    "late-by": pl.Duration("us"),
}

LABEL = ("rule", "account", "subject")
"""What outputs name a finding by."""
