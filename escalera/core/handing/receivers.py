"""What a pack may hold, and who usually needs what of it."""

from __future__ import annotations

from escalera.errors import InputError, shown
from escalera.lazy_dataclasses import dataclass

PARTS: dict[str, str] = {
    "midi": "Notes, tempo, metre, key, markers, chords as text and words as lyrics: MIDI",
    "mix": "The finished mix under −1 dBTP, with sections as cue points, of 24 bits",
    "premaster": "The sum before the mix's own effects and the limiter",
    "dry": "Every layer alone, without rooms",
    "wet": "Every layer alone, with its rooms",
    "buses": "Every family through its bus, and what rooms and echoes bring; together they are the sum before the mix's effects",
    "no-voices": "The mix without voices, of 24 bits",
    "no-drums": "The mix without drums, of 24 bits",
    "lead-sheet": "Melody, words, chords, sections: MusicXML 4.0, and as a page to print",
    "scores": "Every layer that plays notes as a staff: MusicXML 4.0",
    "chords": "The chords of every section, a page to print",
    "lyrics": "The words with their bars: text",
    "cues": "Sections and what carries the joins: two tables (CSV)",
    "recipes": "Every sound, effect and room in the field's terms with units, so that it can be built with other tools: text",
    "automation": "Every curve and every section's own setting: a table (CSV)",
    "samples": "The recordings that layers play: FLAC, with a table of licences (CSV)",
    "credits": "Who made what, what has to be credited, what is not cleared: text",
    "dates": "What is due until the release, for a calendar (ICS)",
    "project": "The song to open here again: a project with its recordings",
}
FOR_ALL = ("readme", "manifest")


@dataclass(frozen=True, slots=True)
class Receiver:
    """Whom a pack is for, and the parts they need."""

    key: str
    label: str
    said: str
    parts: tuple[str, ...]


RECEIVERS: dict[str, Receiver] = {
    row.key: row
    for row in (
        Receiver("mixer", "A mixer", "stems dry and wet, buses, the sum to hold against, recipes, automation",
                 ("midi", "mix", "premaster", "dry", "wet", "buses", "lyrics", "cues", "recipes", "automation", "credits")),
        Receiver("singer", "A singer", "something to sing to, the melody and the words", ("mix", "no-voices", "lead-sheet", "lyrics", "midi")),
        Receiver("remixer", "A remixer", "wet stems, notes, recordings with their licences", ("midi", "wet", "cues", "samples", "credits")),
        Receiver("drummer", "A drummer", "the mix without drums, the form, the chords", ("no-drums", "mix", "midi", "chords", "cues")),
        Receiver("teacher", "A teacher", "sheets, notes, the project", ("mix", "lead-sheet", "scores", "chords", "midi", "lyrics", "project")),
        Receiver("label", "A label", "the mix, a version without voices, words and credits", ("mix", "no-voices", "lyrics", "credits", "chords", "dates")),
        Receiver("oneself", "Oneself, next year", "everything, in forms that will still open", tuple(PARTS)),
    )
}  # fmt: skip


def parts_for(receiver: str = "", only: str = "") -> tuple[str, ...]:
    """The parts of a pack: those named, with commas between them, else those of a receiver, else all. Raises InputError."""
    if only.strip():
        wanted = [p.strip() for p in only.split(",") if p.strip()]
        wrong = [p for p in wanted if p not in PARTS]
        if wrong:
            raise InputError(f"“{shown(wrong[0])}” is no part of a pack. Choose among: {', '.join(PARTS)}.")
        return tuple(p for p in PARTS if p in wanted)
    if not receiver:
        return tuple(PARTS)
    if receiver not in RECEIVERS:
        raise InputError(f"“{shown(receiver)}” is no receiver. Choose one of: {', '.join(RECEIVERS)}.")
    return tuple(p for p in PARTS if p in RECEIVERS[receiver].parts)
