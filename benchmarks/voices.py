"""Voices: how true words, notes, rooms and sorting are on what the singer really sang, and how fast takes are there. Prints each figure beside its budget.

Nothing was fitted on the seeds judged here (200 and on); the thresholds of `listen/sung_notes` and `listen/voice_noises` were set on seeds below 60.
"""

from __future__ import annotations

import tempfile
import time
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
from scipy.signal import fftconvolve

from benchmarks.table import SOUND, row
from escalera.core.document.codec import to_plain
from escalera.core.edits.take_edits import AddTake, CompPiece
from escalera.core.reading.timeline import timeline
from escalera.core.voices.sorting import sort_take
from escalera.core.words.pronouncing import _table, stress_of
from escalera.core.words.spoken_words import counted_by_rule
from escalera.listen.sung_notes import pitch_line, sung_notes
from escalera.listen.voice_noises import carries_room, voice_noises
from escalera.services.demo import demo_songs
from escalera.services.studio import Studio
from escalera.services.takes import keep_take, read_voice, sung_by_program, to_sing
from escalera.services.takes_waiting import TakeAbout
from escalera.sound.singer import ToSing, sing

RATE = 44_100
JUDGED = range(200, 212)
PHONES = ("hO1m", "sI1", "lA1", "nO1", "mU1", "wa1", "bE1", "mi1", "tRe1", "Si1")


def tune(seed: int) -> tuple[list[ToSing], float]:
    """A made-up tune of thirty notes with its length in seconds."""
    rng = np.random.default_rng(seed)
    at, notes = 0.6, []
    for i in range(30):
        long = float(rng.choice([0.25, 0.4, 0.6, 0.9]))
        notes.append(ToSing(at, at + 0.9 * long, int(rng.integers(48, 77)), str(rng.choice(PHONES)), i % 6 == 0))
        at += long + (0.6 if i % 6 == 5 else 0.0)
    return notes, at + 0.5


def truth_of_notes() -> None:
    """Pitch, beginnings, breaths, sibilants and rooms against what was sung."""
    cents, late, missed, total = [], [], 0, 0
    breaths, breathed, hisses, hissed, dry, wet = 0, 0, 0, 0, 0, 0
    for seed in JUDGED:
        notes, seconds = tune(seed)
        made = sing(notes, seconds, seed)
        line = pitch_line(made.audio)
        found = sung_notes(made.audio, line)
        for start, _, pitch in made.notes:
            near = min(found, key=lambda n: abs(n.start_s - start))
            total += 1
            if abs(near.start_s - start) > 0.12 or abs(near.pitch + near.cents / 100 - pitch) > 1:
                missed += 1
                continue
            cents.append(100 * (near.pitch + near.cents / 100 - pitch))
            late.append(1000 * (near.start_s - start))
        noises = voice_noises(made.audio, found, line[1])
        told = [n for n in noises if n.kind == "breath"]
        breaths += len(made.breaths)
        breathed += sum(any(abs(b.start_s - a) < 0.15 for b in told) for a, _ in made.breaths)
        hisses += sum(n.phones[0] in "sS" for n in notes)
        hissed += sum(n.kind == "hiss" for n in noises)
        dry += carries_room(made.audio, found) is False
        rng = np.random.default_rng(seed)
        tail = rng.standard_normal(RATE) * np.exp(-6.9 * np.arange(RATE) / (0.7 * RATE))
        roomy = (made.audio + 0.03 * fftconvolve(made.audio[0], tail)[: made.audio.shape[1]]).astype(np.float32)
        wet += carries_room(roomy, sung_notes(roomy)) is True
    size = np.abs(cents)
    row("notes found, judged seeds", 100 * (1 - missed / total), 90, "%", True)
    row("pitch, 95 of 100 within", float(np.percentile(size, 95)), 10, "cents")
    row("beginnings, 90 of 100 within", float(np.percentile(np.abs(late), 90)), 30, "ms off")
    row("breaths found", 100 * breathed / max(1, breaths), 90, "%", True)
    row("sibilants found per sung one", 100 * hissed / max(1, hisses), 90, "%", True)
    row("dry voices told dry", 100 * dry / len(JUDGED), 90, "%", True)
    row("rooms told", 100 * wet / len(JUDGED), 90, "%", True)


def truth_of_words() -> None:
    """The rule of spelling, and the table, on every fiftieth of the words in the table."""
    rows = [line.split("\t") for line in _table().decode().split("\n") if "\t" in line][::50]
    right = sum(counted_by_rule(word) == len(stress_of(phones)) for word, phones in rows)
    row("syllables by rule alone", 100 * right / len(rows), 88, "%", True)


def speed() -> None:
    """A take from its last piece to its reading, a comp, a song with sixty takes, sorting."""
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), max_pages=0, cache_mb=300)
        song = demo_songs()[0]
        section = next(s for s in song.sections if s.name == "Chorus 1")
        song_id = studio.add_song(song, "made")
        first = studio.takes.begin(TakeAbout(song_id, section.id))
        studio.takes.piece(first, 0, (0.1 * np.sin(np.arange(RATE) / 20)).astype("<f4").tobytes())
        keep_take(studio, first)  # the reading process is started when a take begins, long before it ends
        song_id = studio.add_song(song, "made")
        span = timeline(song).span_of(section.id)
        notes = [replace(n, start_s=n.start_s + 2, end_s=n.end_s + 2) for n in to_sing(song, span, "lead")]
        audio = sing(notes, 30.0, 7).audio
        token = studio.takes.begin(TakeAbout(song_id, section.id, zero_s=2.0))
        for number, at in enumerate(range(0, audio.shape[1], RATE // 2)):
            studio.takes.piece(token, number, np.ascontiguousarray(audio[:, at : at + RATE // 2].T, "<f4").tobytes())
        begun = time.perf_counter()
        keep_take(studio, token)
        kept_s = time.perf_counter() - begun
        after = studio.head(song_id).song
        take = after.takes[0]
        begun = time.perf_counter()
        found = sort_take(song, span, take.sung)
        sorted_s = time.perf_counter() - begun
        sample = asdict(after.samples[0])
        for i in range(59):
            fields = {"section_id": section.id, "zero_s": 2.0, "notes": take.notes, "noises": take.noises}
            after = AddTake(fields, {**sample, "content": f"{i:032d}"}, "never").apply(after)
        begun = time.perf_counter()
        CompPiece(section.id, "lead", after.takes[30].id, 0, span.length_ticks // 2).apply(after)
        comp_s = time.perf_counter() - begun
        plain = len(str(to_plain(after)))
        many = studio.add_song(after, "made")
        page_ms = {key: _page_ms(studio, key, section.id) for key in (song_id, many)}
        read_s = _read_s(studio, take.content)
        made_s = _sung_s(studio, song, section)
        studio.close()
    row("30 s take joined, kept, read, laid", kept_s, 1.5, "s", load=SOUND)
    row("of that, notes, breaths and room read", read_s, 1.0, "s", load=SOUND)
    row("sorted against all voices", sorted_s, 0.5, "s")
    row("comp of one of 60 takes", 1000 * comp_s, 50, "ms")
    row("page of voices, one take", page_ms[song_id], 200, "ms")
    row("page of voices, 60 takes", page_ms[many], 200, "ms")
    row("song with 60 takes, written", plain / 1000, 500, "kB")
    row("share of notes that sort it", 100 * found.share, 80, "%", True)
    row("30 s sung by the program and kept", made_s, 4, "s")


def _page_ms(studio: Studio, song_id: int, section_id: int) -> float:
    from escalera.web import create_app

    client = create_app(studio, testing=True).test_client()
    times = []
    for _ in range(6):
        begun = time.perf_counter()
        assert client.get(f"/songs/{song_id}/voices?select=section:{section_id}:0:0:0").status_code == 200
        times.append(time.perf_counter() - begun)
    return 1000 * float(np.median(times[1:]))


def _read_s(studio: Studio, content: str) -> float:
    begun = time.perf_counter()
    read_voice(content, 30.0, studio.lines_folder)
    return time.perf_counter() - begun


def _sung_s(studio: Studio, song, section) -> float:  # type: ignore[no-untyped-def]
    begun = time.perf_counter()
    sung_by_program(studio, song, section, "lead", 77)
    return time.perf_counter() - begun


def voices() -> None:
    """Print all of it."""
    truth_of_notes()
    truth_of_words()
    speed()


if __name__ == "__main__":
    voices()
