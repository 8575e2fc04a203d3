"""Days as people write them and documents keep them: year-month-day, without a clock and without a time zone."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from escalera.core.document.fields import AsText
from escalera.errors import EditError, shown

FIRST, LAST = date(1950, 1, 1), date(2199, 12, 31)


def read_day(text: str) -> date:
    """A day. Raises EditError for what is none, or lies before 1950 or after 2199."""
    try:
        day = date.fromisoformat(text.strip())
    except ValueError:
        raise EditError(f"“{shown(text)}” is no day. Write it as year-month-day, for example 2027-01-31.") from None
    if not FIRST <= day <= LAST:
        raise EditError(f"{day} lies outside {FIRST.year} to {LAST.year}. Write a day between them.")
    return day


def day_or_none(text: str) -> date | None:
    """As `read_day`; None where nothing is written."""
    return read_day(text) if text.strip() else None


Day = Annotated[date, AsText(read_day, str)]


def days_said(days: int) -> str:
    """A number of days in words: 'today', '1 day', '12 days', '5 weeks', '4 months'."""
    if abs(days) < 1:
        return "today"
    for size, word, least in ((30.44, "month", 84), (7.0, "week", 21), (1.0, "day", 0)):
        if abs(days) >= least:
            count = round(abs(days) / size)
            return f"{count} {word}{'' if count == 1 else 's'}"
    return ""
