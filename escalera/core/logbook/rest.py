"""Breaks for the ears, and late hours: told plainly, and late hours only to those who want it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, time, timedelta

from escalera.errors import EditError, shown

REST = timedelta(minutes=10)  # a pause so long counts as one
MOST_MINUTES = 240
USUAL_MINUTES = 50


def worked_without_rest(times: Sequence[datetime], now: datetime) -> int:
    """Minutes of work up to now without a pause of ten minutes; 0 where one is being taken.

    `times` are those of steps, in any order. Steps that seem to lie ahead, because a clock was set, count as made now.
    """
    at, began = now, now
    for each in sorted((min(t, now) for t in times), reverse=True):
        if at - each >= REST:
            break
        at = began = each
    return round((now - began).total_seconds() / 60)


def read_rest(minutes: str, late: str) -> tuple[int, str]:
    """How long one works before a break is proposed (0 is never), and from when an hour is late (empty is never). Raises EditError."""
    text = minutes.strip() or "0"
    if not text.isdecimal() or len(text) > 4 or int(text) > MOST_MINUTES:
        raise EditError(f"“{shown(minutes)}” is no number of minutes from 0 to {MOST_MINUTES}. Write one; 0 is never.")
    if late.strip():
        late_at(late)
    return int(text), late.strip()


def late_at(text: str) -> time:
    """A time of day. Raises EditError."""
    try:
        return time.fromisoformat(text.strip())
    except ValueError:
        raise EditError(
            f"“{shown(text)}” is no time of day. Write it as hours and minutes, for example 23:00."
        ) from None


def is_late(ended: datetime, late: str) -> bool:
    """Whether work ended in the late hours: after the given time of day, or before five in the morning."""
    if not late:
        return False
    begins = late_at(late)
    at = ended.time()
    return (at >= begins or at < time(5)) if begins >= time(12) else begins <= at < time(5)
