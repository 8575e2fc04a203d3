"""Which parts of a song two states differ in; every command declares which ones it may touch."""

from __future__ import annotations

from dataclasses import fields

from escalera.core.document.song import Section, Song

# field of a section: the part it belongs to
OF_SECTION = {
    "name": "form", "role": "form", "bars": "form", "phrases": "form", "target": "form", "metre_changes": "time", "tempo_changes": "time",
    "stretched": "form", "length_reason": "form", "shift_semitones": "harmony", "progression": "harmony", "placements": "placements",
    "curves": "shaping", "treatments": "shaping", "throws": "shaping", "swings": "shaping", "parked": "options", "body_name": "options",
    "body_who": "options", "guessed": "form", "devices": "joins", "build": "joins", "lyrics": "singing", "lyric": "singing", "moments": "singing",
    "wanted": "singing",
}  # fmt: skip
OF_SONG = {
    "layers": "layers", "samples": "layers", "patterns": "notes",
    "grooves": "notes", "progression": "harmony", "key": "harmony", "chords_read": "harmony", "push_ticks": "harmony",
    "tuning_hz": "harmony", "tuned_down": "harmony", "capo_fret": "harmony", "tempo_bpm": "time", "metre": "time", "lead_bars": "time",
    "buses": "mix", "master": "mix", "returns": "mix", "master_gain_db": "mix", "life": "mix", "sections": "", "next_id": "",
    "takes": "singing", "language": "singing", "divided": "singing", "singer_low": "singing", "singer_high": "singing",
}  # fmt: skip
PARTS = (
    "song",
    "layers",
    "notes",
    "harmony",
    "time",
    "mix",
    "form",
    "placements",
    "shaping",
    "joins",
    "options",
    "singing",
)
EVERYTHING = " ".join(PARTS)


def touched(before: Song, after: Song) -> set[str]:
    """The parts (of PARTS) in which two states differ."""
    found = {OF_SONG.get(f.name, "song") for f in fields(Song) if getattr(before, f.name) != getattr(after, f.name)}
    if [s.id for s in before.sections] != [s.id for s in after.sections]:
        found.add("form")
    old = before.section_by_id
    for section in after.sections:
        found |= _of_section(old[section.id], section) if section.id in old else {"form"}
    return found - {""}


def _of_section(before: Section, after: Section) -> set[str]:
    if before is after:
        return set()
    return {part for name, part in OF_SECTION.items() if getattr(before, name) != getattr(after, name)}
