"""Edits of feedback: a list is taken down, a remark is taken or not and why, laid elsewhere, taken out."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.limits import MAX_NAME, MAX_REASON, MAX_REMARKS
from escalera.core.document.names import clean_words
from escalera.core.document.remarks import NOT_TAKEN, OPEN, REMARK_STATES, Remark
from escalera.core.document.song import Song
from escalera.core.edits.edit import edit, section_of
from escalera.core.feedback.remark_list import read_remarks
from escalera.errors import EditError, shown

MAX_LIST = 40_000


def remark_of(song: Song, remark_id: int) -> Remark:
    """The remark with this id. EditError where it is gone."""
    found = next((r for r in song.feedback if r.id == remark_id), None)
    if found is None:
        raise EditError("That remark is not there any more. The list shows what is.")
    return found


def _with(song: Song, remark: Remark) -> Song:
    return replace(song, feedback=tuple(remark if r.id == remark.id else r for r in song.feedback))


@edit("take_down_feedback", "song")
class TakeDownFeedback:
    """Take down what listeners said, a line each."""

    text: str
    who: str = ""

    def apply(self, song: Song) -> Song:
        if len(self.text) > MAX_LIST:
            raise EditError(
                f"The list has {len(self.text):,} characters; at most {MAX_LIST:,} are read. Take it in parts."
            )
        found = read_remarks(self.text, song, clean_words(self.who, "listener", MAX_NAME))
        known = {(r.who, r.said, r.section_id, r.bar) for r in song.feedback}
        new = [f for f in found if (f.who, f.said, f.section_id, f.bar) not in known]
        if not found:
            raise EditError("Nothing was said in it. Write a line a remark, for example “0:45 hats too loud”.")
        if not new:
            raise EditError("All of it is in the list already.")
        if len(song.feedback) + len(new) > MAX_REMARKS:
            raise EditError(
                f"{len(song.feedback)} remarks are kept and {len(new)} more came; {MAX_REMARKS} fit. Take out what is done."
            )
        rows = tuple(
            Remark(song.next_id + i, f.said, f.who, f.section_id, f.bar, f.heard_at) for i, f in enumerate(new)
        )
        return replace(song, feedback=(*song.feedback, *rows), next_id=song.next_id + len(rows))

    def summary(self, song: Song) -> str:
        count = len(read_remarks(self.text, song))
        return f"Feedback{f' by {self.who}' if self.who else ''}: {count} {'remark' if count == 1 else 'remarks'}"


@edit("set_feedback", "song")
class SetFeedback:
    """Say what became of a remark: open, taken, or not taken and why."""

    remark_id: int
    state: str
    reason: str = ""

    def apply(self, song: Song) -> Song:
        remark = remark_of(song, self.remark_id)
        if self.state not in REMARK_STATES:
            raise EditError(
                f"“{shown(self.state)}” is no state of a remark. Choose one of: {', '.join(REMARK_STATES)}."
            )
        reason = clean_words(self.reason, "reason", MAX_REASON)
        if self.state == NOT_TAKEN and not reason:
            raise EditError("Say why it is not taken: who said it will ask.")
        return _with(song, replace(remark, state=self.state, reason="" if self.state == OPEN else reason))

    def summary(self, song: Song) -> str:
        said = remark_of(song, self.remark_id).said
        return f"“{shown(said, 60)}”: {self.state}{f', {self.reason}' if self.reason else ''}"[:200]


@edit("place_feedback", "song")
class PlaceFeedback:
    """Lay a remark where it belongs: a section (0 for the whole song) and a bar of it (0 for all of it)."""

    remark_id: int
    section_id: int
    bar: int = 0

    def apply(self, song: Song) -> Song:
        remark = remark_of(song, self.remark_id)
        bars = section_of(song, self.section_id).bars if self.section_id else 0
        if not 0 <= self.bar <= bars:
            raise EditError(f"Bar {self.bar} is not in there: there are {bars}. Choose one of them, or 0 for all.")
        return _with(song, replace(remark, section_id=self.section_id, bar=self.bar))

    def summary(self, song: Song) -> str:
        where = section_of(song, self.section_id).name if self.section_id else "the whole song"
        return f"“{shown(remark_of(song, self.remark_id).said, 60)}”: laid to {where}"


@edit("remove_feedback", "song")
class RemoveFeedback:
    """Take a remark out of the list."""

    remark_id: int

    def apply(self, song: Song) -> Song:
        remark = remark_of(song, self.remark_id)
        return replace(song, feedback=tuple(r for r in song.feedback if r is not remark))

    def summary(self, song: Song) -> str:
        return f"Feedback out: “{shown(remark_of(song, self.remark_id).said, 60)}”"
