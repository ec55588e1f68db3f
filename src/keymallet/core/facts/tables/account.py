"""The table of accounts."""

from __future__ import annotations

from keymallet.core.facts.model import Table
from keymallet.core.facts.tables.account_holders import WHOSE
from keymallet.core.facts.tables.account_sign_in import SIGNED_IN

ACCOUNT = Table(
    "account",
    "one row for each account in each source",
    (*WHOSE, *SIGNED_IN),
    owner="person",
    label=("name", "display", "unit"),
    told_by="name",
    said="account / accounts",
)
