"""A voice that stands alone: its notes in a section of a study, and what could go under them."""

from __future__ import annotations

import numpy as np

from escalera.core.study.under_voice import VoiceNote, VoiceOffer, home_of, long_and_stressed, offers_under
from escalera.core.theory.keys import Key, parse_key
from escalera.errors import InputError, NotFound
from escalera.lazy_dataclasses import dataclass
from escalera.listen.sung_notes import sung_notes
from escalera.services.studies import Study
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

FEWEST = 4  # notes that are a voice
LONGEST_S = 180.0


@dataclass(frozen=True, slots=True)
class UnderVoice:
    """What was read of a voice in a section, and three ways of going under it. `heard` are the notes that count most."""

    key: Key
    confidence: float
    notes: int
    heard: list[VoiceNote]
    offers: list[VoiceOffer]


def under_voice(study: Study, index: int) -> UnderVoice:
    """Offers for a section of a study. Raises InputError where there are no bars, or no single voice is heard."""
    reading = study.needed()
    if not reading.has_bars or not reading.sections:
        raise InputError("Chords are counted on bars, and there are none yet. Tap along with the voice first.")
    section = reading.sections[index]
    low_s, high_s = reading.bar_s(section.first_bar), reading.bar_s(section.first_bar + section.bars)
    if high_s - low_s > LONGEST_S:
        raise InputError(
            f"{section.name} lasts {high_s - low_s:.0f} s; up to {LONGEST_S:.0f} s are read at once. Split it."
        )
    audio = library.read(study.content, round(low_s * RATE_HZ), round((high_s - low_s) * RATE_HZ))
    if audio is None:
        raise NotFound(f"The audio of {study.name} is missing. Bring the file in again; its content is recognised.")
    beats = np.array(reading.beats_s) - low_s
    first = reading.beat_of_bar(section.first_bar)
    number = np.arange(len(beats)) - first
    sung = sung_notes(audio)
    starts, ends = (np.interp([getattr(n, at) for n in sung], beats, number) for at in ("start_s", "end_s"))
    notes = [VoiceNote(float(a), float(b), n.pitch) for a, b, n in zip(starts, ends, sung)]
    found = home_of(notes)
    if len(notes) < FEWEST or found is None:
        raise InputError(
            f"No single voice is heard in {section.name}: {len(notes)} notes hold a pitch. Choose a section in which it sings alone."
        )
    key, sure = (parse_key(study.given.key), 1.0) if study.given.key else found
    a_bar = reading.beats_a_bar
    return UnderVoice(
        key, sure, len(notes), long_and_stressed(notes, a_bar), offers_under(notes, section.bars, a_bar, key)
    )
