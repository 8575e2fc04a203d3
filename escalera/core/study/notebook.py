"""What a person wrote down about a track: notes pinned to bars, and the checklist of instruments."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from escalera.cleaning import clean_line, clean_text
from escalera.core.study.heard_track import INSTRUMENT_STATES, NOTE_KINDS, Instrument, StudyNote
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass

MOST_NOTES, MOST_INSTRUMENTS, MOST_CHARS = 400, 80, 2000


@dataclass(frozen=True, slots=True)
class Notebook:
    """Notes and checklist of a study; `next_id` numbers both."""

    notes: tuple[StudyNote, ...] = ()
    instruments: tuple[Instrument, ...] = ()
    next_id: int = 1

    def with_note(self, text: str, kind: str = "note", at_s: float | None = None) -> Notebook:
        """A note more. Raises InputError for an empty one, or one too many."""
        said = clean_text(text, MOST_CHARS).strip()
        if not said:
            raise InputError("The note is empty. Write what you heard.")
        if kind not in NOTE_KINDS:
            raise InputError(f"{clean_line(kind)[:40]} is no kind of note. Choose one of {', '.join(NOTE_KINDS)}.")
        if len(self.notes) >= MOST_NOTES:
            raise InputError(f"{MOST_NOTES} notes are kept, and no more fit. Take some away first.")
        note = StudyNote(self.next_id, kind, said, at_s)
        return replace(self, notes=(*self.notes, note), next_id=self.next_id + 1)

    def with_instrument(self, name: str) -> Notebook:
        """An instrument more on the checklist, as heard. Raises InputError."""
        said = clean_line(name)[:80].strip()
        if not said:
            raise InputError("Write the name of the instrument you hear.")
        if len(self.instruments) >= MOST_INSTRUMENTS:
            raise InputError(f"{MOST_INSTRUMENTS} instruments are listed, and no more fit.")
        if any(x.name.lower() == said.lower() for x in self.instruments):
            raise InputError(f"{said} is on the list already.")
        return replace(self, instruments=(*self.instruments, Instrument(self.next_id, said)), next_id=self.next_id + 1)

    def with_state(self, instrument_id: int, state: str) -> Notebook:
        if state not in INSTRUMENT_STATES:
            raise InputError(f"An instrument is {', '.join(INSTRUMENT_STATES)}, not {clean_line(state)[:40]}.")
        return self._changed(instrument_id, lambda x: replace(x, state=state))

    def with_place(self, instrument_id: int, place: float | None) -> Notebook:
        """Where an instrument sits, −1 left to 1 right; None for not known."""
        if place is not None and not -1.0 <= place <= 1.0:
            raise InputError(f"{place:g} is no place between left (−1) and right (1).")
        return self._changed(instrument_id, lambda x: replace(x, place=place))

    def _changed(self, instrument_id: int, change: Callable[[Instrument], Instrument]) -> Notebook:
        if not any(x.id == instrument_id for x in self.instruments):
            raise InputError("This instrument is not on the list any more.")
        rows = tuple(change(x) if x.id == instrument_id else x for x in self.instruments)
        return replace(self, instruments=rows)

    def without(self, id: int) -> Notebook:
        """Without a note or an instrument."""
        return replace(
            self, notes=tuple(n for n in self.notes if n.id != id),
            instruments=tuple(x for x in self.instruments if x.id != id),
        )  # fmt: skip
