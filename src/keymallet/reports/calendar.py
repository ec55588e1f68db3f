"""A report as a calendar (RFC 5545): due dates, and the reviews, drills and ends of exemptions to come."""

from __future__ import annotations

from keymallet.outputs.calendar import due_calendar, to_calendar
from keymallet.reports.content import Content
from keymallet.reports.registry import Look


def write(content: Content, look: Look) -> bytes:
    """An entry for each. Raises KeymalletError if the package for calendars is not installed.

    A report that is narrowed, or whose snapshot is gone, has the due dates alone.
    """
    due = content.broken.filter(content.broken["due"].is_not_null())
    if content.ahead is None:
        return due_calendar(due, content)
    return to_calendar(content.ahead, due, content, "account")
