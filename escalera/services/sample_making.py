"""Samples made of samples: a voice through chords, and the beat that a loop plays, for the song's own drums."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.bench.sample_fit import clip_for, section_tempo, tempo_of
from escalera.core.document.recordings import Sample
from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import section_of
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import timeline
from escalera.errors import InputError, NotFound
from escalera.services.samples import Samples
from escalera.sound.recording_files import library
from escalera.sound.stretching import RATE_HZ, stretched

MOST_S = 120.0
DRUM_OF = {"low": "kick", "middle": "snare", "high": "closed hat"}
ZONES = ("low", "middle", "high")
QUARTER_TICKS, FINEST = 960, 60
LEAST = 0.2
Audio = NDArray[np.float32]


def beat_of(song: Song, section: Section, sample: Sample) -> tuple[int, list[list[object]]]:
    """The beat a loop plays, as the song's drums can: its length in ticks and hits of tick, drum and velocity.

    Low onsets are kicks, middle ones snares, high ones hats; ticks are rounded to a sixteenth of a quarter, so that its feel stays.
    """
    rows = sample.onset_rows
    rows = rows[rows[:, 1] > LEAST]
    if not sample.tempo_bpm or len(rows) < 2:
        raise InputError(f"No beat is heard in {sample.name}. Correct its tempo, or choose another loop.")
    tempo = tempo_of(sample, section_tempo(song, section))
    bars = max(1, round(sample.seconds * tempo / 60.0 * QUARTER_TICKS / song.metre.bar_ticks))
    length = bars * song.metre.bar_ticks
    hits: dict[tuple[int, str], int] = {}
    for at_s, strength, zone in rows.tolist():
        tick = round(at_s * tempo / 60.0 * QUARTER_TICKS / FINEST) * FINEST
        if tick < length:
            drum = DRUM_OF[ZONES[int(zone)]]
            hits[tick, drum] = max(hits.get((tick, drum), 1), min(127, round(45 + 75 * strength)))
    return length, [[tick, drum, velocity] for (tick, drum), velocity in sorted(hits.items())]


# a voice over chords ---------------------------------------------------------------------------------------------------

BANDS, FRAME, HOP = 28, 1024, 256
BAND_HZ = (90.0, 9000.0)
FRAME_OF_WORDS = 882  # 20 ms
GAP_S, WORD_DB = 0.08, -32.0  # so long a gap and so quiet a level lie between words
CARRIER_LOW = 48  # chords lie from this MIDI pitch up


@lru_cache(maxsize=256)
def words_of(content: str) -> tuple[tuple[float, float], ...]:
    """The words or phrases of a recording, seconds of beginning and end: what sounds between gaps; none where its audio is gone."""
    audio = library.read(content, 0, round(MOST_S * RATE_HZ))
    if audio is None or audio.shape[1] < FRAME_OF_WORDS:
        return ()
    mono = audio.mean(axis=0)[: audio.shape[1] // FRAME_OF_WORDS * FRAME_OF_WORDS]
    level = (mono.reshape(-1, FRAME_OF_WORDS) ** 2).mean(axis=1)
    runs: list[list[int]] = []
    for frame in np.flatnonzero(level > level.max() * 10.0 ** (WORD_DB / 10.0)).tolist():
        if runs and (frame - runs[-1][1]) * FRAME_OF_WORDS <= GAP_S * RATE_HZ:
            runs[-1][1] = frame + 1
        else:
            runs.append([frame, frame + 1])
    return tuple((a * FRAME_OF_WORDS / RATE_HZ, b * FRAME_OF_WORDS / RATE_HZ) for a, b in runs)


def vocoded(song: Song, section: Section, audio: Audio, sample: Sample, bars: tuple[int, int] | None = None) -> Audio:
    """A recording speaking through the chords of a section, or of some of its bars (first from 0, and the one after the last),
    fitted to its tempo: (1, n).

    A channel vocoder: the levels of the recording in bands laid over a sound of many partials that plays the chords.
    """
    clip = clip_for(song, sample, "voices", section)
    span = timeline(song).span_of(section.id)
    first, last = bars or (0, section.bars)
    begin, end = (float(x) for x in span.grid.seconds_of(np.array([span.bar_ticks[first], span.bar_ticks[last]])))
    length = round(clip.beats * 60.0 / section_tempo(song, section) * RATE_HZ) if sample.tempo_bpm else audio.shape[1]
    length = min(length, round((end - begin) * RATE_HZ)) if bars else length
    spoken = stretched(audio.mean(axis=0, keepdims=True).astype(np.float32), max(length, audio.shape[1] // 4))[0]
    spoken = spoken[:length] if len(spoken) >= length else np.pad(spoken, (0, length - len(spoken)))
    harmony = section_harmony(song, span)
    seconds = span.grid.seconds_of(np.array(harmony.ticks)) - begin
    starts = [min(length, max(0, round(float(s) * RATE_HZ))) for s in seconds]
    carrier = np.zeros(length)
    for chord, low, high in zip(harmony.chords, starts, [*starts[1:], length]):
        if high > low:
            carrier[low:high] = _sawed(
                [CARRIER_LOW + (chord.root_class + t) % 12 + 12 * (i % 2) for i, t in enumerate(chord.tones)],
                high - low,
            )
    made = _through(spoken, carrier)
    peak = float(np.abs(made).max(initial=1e-9))
    return (0.5 / peak * made).astype(np.float32)[None]


def _sawed(pitches: list[int], length: int) -> NDArray[np.float64]:
    t = np.arange(length) / RATE_HZ
    out = np.zeros(length)
    for pitch in pitches:
        hz = 440.0 * 2.0 ** ((pitch - 69) / 12.0)
        for k in range(1, int(8000 / hz)):
            out += np.sin(2 * np.pi * hz * k * t + k * 0.7) / k
    return out


def _through(spoken: NDArray[np.float32], carrier: NDArray[np.float64]) -> NDArray[np.float64]:
    """The carrier with the recording's levels by band."""
    window = np.hanning(FRAME)
    starts = np.arange(0, max(1, len(spoken) - FRAME), HOP)
    hz = np.fft.rfftfreq(FRAME, 1.0 / RATE_HZ)
    band = np.clip(np.searchsorted(np.geomspace(*BAND_HZ, BANDS + 1), hz) - 1, 0, BANDS - 1)
    heard = (hz >= BAND_HZ[0] / 2) & (hz <= BAND_HZ[1] * 1.2)
    out = np.zeros(len(carrier) + FRAME)
    for at in starts:
        voice, sound = (np.fft.rfft(x[at : at + FRAME] * window) for x in (spoken, carrier))
        wanted, has = (np.sqrt(np.bincount(band, np.abs(x) ** 2, BANDS)) for x in (voice, sound))
        gain = np.minimum(wanted / np.maximum(has, 1e-3), 20.0)
        out[at : at + FRAME] += np.fft.irfft(sound * gain[band] * heard) * window
    return out[: len(carrier)]


def make_vocoded(
    samples: Samples, song: Song, section_id: int, sample_id: int, first_bar: int = 0, last_bar: int = 0, word: int = 0
) -> int:
    """Keep a sample, or one of its words (from 1), that speaks through the chords of a section's bars; its id.

    Bars are counted from 0, the last one is the one after; 0 is the section's end. Raises InputError and NotFound.
    """
    section, card, sample = section_of(song, section_id), samples.card(sample_id), samples.sample(sample_id)
    words, last_bar = words_of(card.content), last_bar or section.bars
    if not 0 <= first_bar < last_bar <= section.bars:
        raise InputError(f"Bars {first_bar + 1} to {last_bar} are not in {section.name}. Choose 1 to {section.bars}.")
    if word > len(words):
        raise InputError(f"{card.name} has {len(words)} words, no word {word}. Choose one of them.")
    low, high = words[word - 1] if word else (0.0, min(MOST_S, sample.seconds))
    audio = library.read(card.content, round(low * RATE_HZ), max(1, round((high - low) * RATE_HZ)))
    if audio is None:
        raise NotFound(f"The audio of {card.name} is missing. Bring the file in again.")
    where = (
        section.name if last_bar - first_bar == section.bars else f"{section.name}, bars {first_bar + 1} to {last_bar}"
    )
    tempo = section_tempo(song, section)
    name = f"{card.name}{f', word {word},' if word else ''} over {where} {tempo:.4g}"[:200]
    said = f"“{card.name}” through the chords of {where} in {song.title}, at {tempo:.4g} bpm"
    spoken = replace(sample, tempo_bpm=0.0) if word else sample
    made = vocoded(song, section, audio, spoken, (first_bar, last_bar))
    id = samples.add_audio(name, made, card.source, card.licence, said)
    samples.describe(id, {"credit": card.credit})
    return id
