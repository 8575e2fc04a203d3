"""What a song keeps of its listeners: what was said of which place, by whom, and what became of it."""

from __future__ import annotations

from typing import Annotated

from escalera.core.document.fields import choice, number, text
from escalera.core.document.limits import MAX_BARS, MAX_NAME, MAX_REASON, MAX_REMARK
from escalera.core.hashing import HashedOnce
from escalera.lazy_dataclasses import dataclass

OPEN, TAKEN, NOT_TAKEN = REMARK_STATES = ("open", "taken", "not taken")


@dataclass(frozen=True, slots=True)
class Remark(HashedOnce):
    """One thing that was said. Its section may be gone; it is then said of the whole song."""

    __hash__ = HashedOnce.__hash__
    id: int
    said: Annotated[str, text("Said", MAX_REMARK, required=True)]
    who: Annotated[str, text("Listener", MAX_NAME)] = ""
    section_id: Annotated[int, number("Section", scale="id", help="0 is the whole song")] = 0
    bar: Annotated[int, number("Bar", 0, MAX_BARS, scale="whole", help="of the section; 0 is all of it")] = 0
    heard_at: Annotated[str, text("Heard at", 40, help="the place as it was said")] = ""
    state: Annotated[str, choice("State", REMARK_STATES)] = OPEN
    reason: Annotated[str, text("Reason", MAX_REASON)] = ""
