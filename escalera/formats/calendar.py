"""Due dates as a calendar (iCalendar, RFC 5545): days without a clock, so that no time zone moves them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from escalera.core.document.work_state import WorkState
from escalera.lazy_dataclasses import dataclass

if TYPE_CHECKING:
    from icalendar import Event

REMIND = timedelta(days=-2)
PRODUCT = "-//Escalera//Due dates//EN"
STAMPED = datetime(2000, 1, 1)  # of packs, which are the same when they are made of the same


@dataclass(frozen=True, slots=True)
class DatedSong:
    """A song whose dates are written: `key` names it in the calendar, always the same."""

    key: str
    title: str
    work: WorkState


def calendar_bytes(songs: Iterable[DatedSong], stamped: datetime) -> bytes:
    """A calendar with a whole-day event for every due date that is not done, and for every release; each reminds two days before.

    Written anew, events have the same UIDs, so that a program that takes the calendar in again moves them instead of doubling them.
    """
    from icalendar import Calendar  # a tenth of a second that a start without a calendar does not take

    calendar = Calendar()
    calendar.add("prodid", PRODUCT)
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", "Escalera")
    for song in songs:
        named = {d.what.casefold() for d in song.work.due}
        for due in song.work.due:
            if not due.done:
                calendar.add_component(_event(song, due.what, due.on, stamped))
        if song.work.release_on is not None and "release" not in named:
            calendar.add_component(_event(song, "Release", song.work.release_on, stamped))
    return bytes(calendar.to_ical())


def _event(song: DatedSong, what: str, on: object, stamped: datetime) -> Event:
    from icalendar import Alarm, Event

    event = Event()
    event.add("uid", f"{song.key}-{'-'.join(what.casefold().split())}@escalera")
    event.add("dtstamp", stamped.replace(tzinfo=UTC))
    event.add("summary", f"{song.title}: {what}")
    event.add("dtstart", on)
    event.add("dtend", on + timedelta(days=1))  # type: ignore[operator]
    event.add("transp", "TRANSPARENT")
    alarm = Alarm()
    alarm.add("action", "DISPLAY")
    alarm.add("description", f"{song.title}: {what} in two days")
    alarm.add("trigger", REMIND)
    event.add_component(alarm)
    return event
