"""The one error tree.

EscaleraError
├── InputError          a value from outside cannot be used (says value, limit, remedy)
│   ├── EditError       an edit does not apply to this song
│   │   └── ChordError  a chord's text cannot be read; carries what could be written instead
│   └── FormatError     a file cannot be read
├── NotFound            no such song, version, revision or section
├── Refused             a request that does not come from this program's own pages
├── StaleRevision       the edit was made on an older state than the stored one
├── RenderStopped       a newer state is wanted, so this one is not rendered to its end
├── MeasureError        a state could not be measured, though it was tried again
└── StoreError          the database could not keep something (full disk, locked, read-only)
    └── DamagedState    a state of a song cannot be read

Messages are plain sentences for the person using the program; `status` is how the web layer answers.
"""

from __future__ import annotations

from escalera.cleaning import clean_line


class EscaleraError(Exception):
    """Root of all errors that the program raises on purpose."""

    status = 500


class InputError(EscaleraError):
    status = 400


class EditError(InputError):
    status = 422


class ChordError(EditError):
    """`offers` are texts that would be read."""

    def __init__(self, message: str, offers: tuple[str, ...] = ()):
        super().__init__(message)
        self.offers = offers


class FormatError(InputError):
    status = 422


class NotFound(EscaleraError):
    status = 404


class Refused(EscaleraError):
    status = 403


class StaleRevision(EscaleraError):
    status = 409


class RenderStopped(EscaleraError):
    status = 409


class MeasureError(EscaleraError):
    status = 500


class StoreError(EscaleraError):
    status = 507


class DamagedState(StoreError):
    status = 500

    def __init__(self, message: str, song_id: int):
        super().__init__(message)
        self.song_id = song_id


def shown(value: object, limit: int = 40) -> str:
    """A value as it may stand in a message: one line, cut to a readable length."""
    text = clean_line(str(value)[: 8 * limit])
    return text if len(text) <= limit else text[: limit - 1] + "…"
