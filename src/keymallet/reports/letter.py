"""A report as a letter (RFC 5322), plain text first, with its due dates as a calendar (RFC 5545)."""

from __future__ import annotations

import hashlib
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from keymallet.core.base.listing import how_many
from keymallet.core.base.printable import plain
from keymallet.outputs.calendar import due_calendar
from keymallet.reports.content import Content, basis, due_in_words, moment, who
from keymallet.reports.registry import Look

_NOBODY = "keymallet.invalid"
"""A domain that is nobody's (RFC 2606): a letter has to be from somebody, and has no sender yet."""


def write(content: Content, look: Look) -> bytes:
    """One letter. Raises KeymalletError if the package for calendars is not installed.

    It is to whoever answers for all that is in it, if that is one and has an address.
    """
    letter = EmailMessage(policy=SMTP)
    number, late = content.broken.height, content.late.height
    overdue = f", {late:,} past due" if late else ""
    letter["Subject"] = plain(f"{how_many(number, 'finding')} to mend{overdue} ({content.organisation})")
    letter["From"] = Address("Keymallet", "no-reply", _NOBODY)
    mails = content.findings["answerer-mail"].drop_nulls().unique().to_list()
    names = content.findings["answerer"].unique().to_list()
    if len(mails) == 1 and len(names) == 1 and mails[0].count("@") == 1:
        user, _, domain = str(mails[0]).partition("@")
        letter["To"] = Address(plain(names[0] or ""), user, domain)
    letter["Date"] = format_datetime(content.at)
    digest = hashlib.sha256(f"{content.head}\0{content.narrowed}".encode()).hexdigest()[:32]
    letter["Message-ID"] = f"<{digest}@{_NOBODY}>"
    letter.set_content(_text(content))
    due = content.broken.filter(content.broken["due"].is_not_null())
    if due.height:
        calendar = due_calendar(due, content)
        letter.add_attachment(calendar, maintype="text", subtype="calendar", filename="due.ics")
    return letter.as_bytes()


def _text(content: Content) -> str:
    lines = [content.verdict(), f"Judged at {moment(content.at, content.clock)}."]
    if content.gaps:
        lines += ["", f"The evidence is incomplete: {'; '.join(content.gaps)}."]
    for row in content.findings.iter_rows(named=True):
        when = due_in_words(row, content.clock) or row["state"]
        lines += ["", f"{row['severity']}, {when}: {who(row)}", f"  {row['title']}"]
        lines += [f"  why: {row['because']}"] if row["because"] else []
        lines += [f"  to do: {row['change']}"] if row["change"] else []
        lines.append(f"  finding {row['finding-id'][:8]}, rule {row['rule']}")
    lines += ["", "What it rests on:"]
    lines += [f"  {what}: {value}" for what, value in basis(content)]
    return "\n".join(map(plain, lines)) + "\n"
