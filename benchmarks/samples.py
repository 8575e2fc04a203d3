"""Recordings: reading, the list of two thousand, trying one in a loop, stretching, an edit of a clip, memory of a long file."""

from __future__ import annotations

import resource
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from benchmarks.table import SOUND, row, seconds
from escalera.core.commands import COMMANDS
from escalera.core.document.recordings import Sample
from escalera.core.document.song import Song
from escalera.core.reading.timeline import timeline
from escalera.core.samples.finding import SampleWish
from escalera.services.demo import demo_songs
from escalera.services.sample_files import read_file
from escalera.services.sample_hearing import laid_layer, landing, part_wav, with_laid
from escalera.services.studio import Studio
from escalera.sound.stretching import stretched
from escalera.store.database import Database
from escalera.store.models import SampleRow

RATE = 44_100
SHORT_FILES = 60  # read for the figure of five hundred


def noise_loop(length_s: float, tempo: float, seed: int) -> np.ndarray:
    """Hits of noise on eighths and a bass of a few tones, (2, n)."""
    dice, n = np.random.default_rng(seed), round(length_s * RATE)
    audio = np.zeros((2, n), np.float32)
    step = round(30 / tempo * RATE)
    hit = (dice.standard_normal((2, 6000)) * np.exp(-np.arange(6000) / 900)).astype(np.float32)
    for at in range(0, n - 6000, step):
        audio[:, at : at + 6000] += hit * (0.5 if at // step % 2 else 0.9)
    t = np.arange(n) / RATE
    for hz in (55, 110, 165):
        audio += (0.1 * np.sin(2 * np.pi * hz * (1 + seed % 5 / 12) * t)).astype(np.float32)
    return audio * np.float32(0.5)


def samples() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        loop, long = folder / "loop.wav", folder / "long.wav"
        soundfile.write(loop, noise_loop(30, 120, 1).T, RATE)
        soundfile.write(long, noise_loop(240, 124, 2).T, RATE)
        read_file(loop)
        row("a 30-second loop read", seconds(lambda: read_file(loop)), 1.0, "s")
        row("a 4-minute file read", seconds(lambda: read_file(long)), 6.0, "s")
        studio = Studio(folder, max_pages=0, cache_mb=220)
        _many(studio, folder)
        _in_songs(studio, loop)
        studio.close()
        audio = noise_loop(30, 120, 3)
        took = seconds(lambda: stretched(audio, round(audio.shape[1] * 1.1)))
        row("30 seconds stretched by a tenth, times as fast as they last", took, 1.0, "s", load=SOUND)  # 30x
        hour = folder / "hour.flac"
        with soundfile.SoundFile(hour, "w", RATE, 2) as out:
            for _ in range(90):
                out.write(noise_loop(30, 120, 4).T)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        read_file(hour)
        row(
            "memory that a file of 45 minutes adds",
            (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024,
            300,
            "MB",
        )


def _many(studio: Studio, folder: Path) -> None:
    files = []
    for number in range(SHORT_FILES):
        files.append(folder / f"short {number}.wav")
        soundfile.write(files[-1], noise_loop(2, 100 + number, number).T, RATE)
    begun = time.perf_counter()
    for file in files:
        studio.samples.add_file(file)
    each = (time.perf_counter() - begun) / SHORT_FILES
    row("500 short files read (from 60)", 500 * each, 180, "s")
    _filled(studio.database, 2000)
    row("the list of 2,000 samples", seconds(lambda: studio.samples.cards(SampleWish(words="beat"))), 0.2, "s")


def _filled(database: Database, count: int) -> None:
    with database.write() as session:
        session.add_all(
            SampleRow(
                content=f"{i:032x}",
                name=f"Beat {i}",
                kind="loop",
                tempo_bpm=90 + i % 80,
                seconds=4.0,
                bands="-20 -20 -30 -30 -40 -50",
                envelope="50" * 96,
            )
            for i in range(count)
        )


def layer_heard(studio: Studio, song: Song, section: int, sample: Sample) -> float:
    """Seconds until a sample laid in a section sounds."""
    laid = with_laid(song, sample, section, "loop", "drums")
    return seconds(lambda: part_wav(studio.rendering, laid, section, laid_layer(song, laid, 0)))


def _in_songs(studio: Studio, loop: Path) -> None:
    short = loop.with_name("usual.wav")
    soundfile.write(short, noise_loop(8, 120, 5).T, RATE)
    song = demo_songs()[1]
    section = song.sections[1].id
    layer_heard(studio, song, section, studio.samples.sample(1))  # the engine is warm in a running program
    for name, file in (("a loop of 8 seconds", short), ("a loop of 30 seconds", loop)):
        sample = studio.samples.sample(studio.samples.add_file(file)[0])
        took = layer_heard(studio, song, section, sample)
        row(f"{name} made to sound fitted, never heard before", took, 0.5, "s", load=SOUND)
    other = replace(song, tempo_bpm=127.0)
    after = with_laid(other, sample, section, "loop", "drums")
    row("where its energy would land", seconds(lambda: landing(song, sample, section)), 0.05, "s")
    layer = laid_layer(other, after, 0)
    gains = iter(range(-3, -20, -1))
    index = other.index_of(section)
    studio.rendering.chunk_wav(after, index)

    def edited() -> None:
        changed = COMMANDS["set_clip"](layer, 0, {"gain_db": next(gains)}).apply(after)
        studio.rendering.renderer.unit(
            next(
                p
                for p in studio.rendering.renderer.plan(changed, timeline(changed).spans[index]).parts
                if p.layer_id == layer
            )
        )

    row("an edit of a clip until its layer sounds", min(seconds(edited) for _ in range(5)), 0.05, "s", load=SOUND)
