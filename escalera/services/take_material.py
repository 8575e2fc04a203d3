"""What could be made of a take beside a voice: chords that go under it, grooves that lock with its accents."""

from __future__ import annotations

import numpy as np

from escalera.core.document.chord_text import write_chordline
from escalera.core.document.singing import Take
from escalera.core.document.song import Progression, Song
from escalera.core.performance.chord_reading import read_chords
from escalera.core.performance.played import Played
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.study.under_voice import VoiceNote, offers_under
from escalera.core.time.metre import Metre
from escalera.core.time.ticks import TICKS_PER_QUARTER
from escalera.core.voices.comp import ticks_at
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass
from escalera.listen.beat_tones import beat_tones
from escalera.listen.frames import read_frames
from escalera.listen.tones import TONAL, tuning_of
from escalera.services import library
from escalera.sound.recording_files import library as library_of_audio
from escalera.sound.schedule import RATE_HZ

FEWEST = 4
MOST_GROOVES = 4
STEP = 240


@dataclass(frozen=True, slots=True)
class ChordOffer:
    """Chords under a take: a name, the line that sets them, every clash in words, the share of it in its chords."""

    name: str
    chordline: str
    clashes: tuple[str, ...]
    agrees: float


def chords_under(song: Song, span: Span, take: Take) -> list[ChordOffer]:
    """Three progressions under a hummed or sung take, a chord a bar. Raises InputError where it holds too few notes."""
    beat, bar = span.bar_metres[0].beat_ticks, span.bar_metres[0].bar_ticks
    notes = [
        VoiceNote(
            ticks_at(span, n.start_s - take.zero_s) / beat, ticks_at(span, n.end_s - take.zero_s) / beat, round(n.pitch)
        )
        for n in take.sung
    ]
    if len(notes) < FEWEST:
        raise InputError(
            f"{len(notes)} notes hold a pitch in this take; from {FEWEST} on chords can be found under it."
        )
    key = section_harmony(song, span).key
    found = []
    for offer in offers_under(notes, span.section.bars, bar // beat, key):
        progression = Progression(tuple((i * bar, c) for i, c in enumerate(offer.chords)), bar * len(offer.chords))
        found.append(ChordOffer(offer.name, write_chordline(progression, song.metre), offer.clashes, offer.agrees))
    return found


def chords_heard(song: Song, span: Span, take: Take) -> ChordOffer | None:
    """The chords that a take plays on the beats of its section; None for a single voice, or what has no tones."""
    sample = song.sample_by_content.get(take.content)
    audio = library_of_audio.read(take.content, 0, round(sample.seconds * RATE_HZ)) if sample else None
    if audio is None:
        return None
    frames = read_frames([audio])
    cents, agreed = tuning_of(frames)
    metre = span.bar_metres[0]
    beats_a_bar = metre.bar_ticks // metre.beat_ticks
    ticks = np.arange(0, span.length_ticks + 1, metre.beat_ticks)
    beats_s = take.zero_s + span.grid.seconds_of(ticks)
    beats_s = beats_s[(beats_s >= 0) & (beats_s <= frames.seconds)]
    if cents is None or agreed < TONAL or len(beats_s) <= beats_a_bar:
        return None
    beats = beat_tones(frames, cents, beats_s, beats_a_bar)
    played = Played((), (), (Metre(beats_a_bar, 4),) * (int(beats.bars[-1]) + 1))
    read = read_chords(played, beats, section_harmony(song, span).key)
    changes = tuple((c.tick // TICKS_PER_QUARTER * metre.beat_ticks, c.chord) for c in read)
    if not changes or changes[0][0] > 0:
        return None
    line = write_chordline(Progression(changes, span.length_ticks), song.metre)
    return ChordOffer("heard in it", line, (), round(float(np.mean([c.confidence for c in read])), 2))


@dataclass(frozen=True, slots=True)
class GrooveOffer:
    """A groove of the library and how well its hits meet a take's accents, 0 to 1."""

    key: str
    name: str
    locks: float


def grooves_near(song: Song, span: Span, take: Take) -> list[GrooveOffer]:
    """The grooves whose accents meet those of a take, the best first; none where nothing begins in it."""
    sample = song.sample_by_content.get(take.content)
    bar = span.bar_metres[0].bar_ticks
    steps = bar // STEP
    accents = np.zeros(steps)
    for at_s, strength, _ in sample.onset_rows.tolist() if sample else ():
        tick = ticks_at(span, at_s - take.zero_s)
        if 0 <= tick < span.length_ticks:
            accents[round(tick / STEP) % steps] += strength
    if accents.sum() <= 0:
        return []
    found = []
    for key, groove in library.grooves().items():
        if groove.beat.length_ticks % bar:
            continue
        hits = np.zeros(steps)
        for hit in groove.beat.hits:
            hits[round(hit.tick / STEP) % steps] += (
                hit.velocity / 127.0 * (2.0 if "kick" in hit.drum or "snare" in hit.drum else 0.5)
            )
        if hits.std() > 0 and accents.std() > 0:
            found.append(GrooveOffer(key, groove.name, round(float(np.corrcoef(accents, hits)[0, 1]), 2)))
    return sorted(found, key=lambda g: -g.locks)[:MOST_GROOVES]
