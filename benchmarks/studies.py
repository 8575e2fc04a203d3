"""Studies held against truth: finished tracks of which nothing was fitted (and, for comparison, those that were looked at), a table of what
was right, and how sure the program was of it.

Run by itself: python -m benchmarks.studies
"""

from __future__ import annotations

import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import soundfile

from benchmarks.finished_material import Track, tracks
from benchmarks.table import SOUND, row, seconds
from escalera.core.study.heard_track import Given, StudyReading
from escalera.core.theory.chords import parse_chord
from escalera.core.theory.keys import parse_key
from escalera.services.stems import bring_in_stems, stem_files
from escalera.services.studio import Studio
from escalera.services.study_hearing import piece_wav
from escalera.services.study_reading import study
from escalera.web import create_app

NEAR_S, FACTORS = 0.07, (0.5, 2.0)
BINS = ((0.0, 0.5), (0.5, 0.7), (0.7, 0.85), (0.85, 0.95), (0.95, 1.01))


@dataclass
class Scores:
    """Shares of what was right, a value a track; and every reading with its confidence, pooled."""

    tempo: list[float] = field(default_factory=list)
    tempo_pressed: list[float] = field(default_factory=list)
    downbeats: list[float] = field(default_factory=list)
    key: list[float] = field(default_factory=list)
    chords: list[float] = field(default_factory=list)
    sections: list[float] = field(default_factory=list)
    pooled: list[tuple[float, bool]] = field(default_factory=list)


def near(ones, others, within: float) -> float:  # type: ignore[no-untyped-def]
    """Share of moments with one of the others near them."""
    if not len(ones) or not len(others):
        return 0.0
    return float((np.abs(np.asarray(ones)[:, None] - np.asarray(others)).min(axis=1) < within).mean())


def score(track: Track, reading: StudyReading, into: Scores) -> None:
    truth = track.truth
    ratio = (reading.tempo_bpm or 1.0) / truth.tempo_bpm
    right = abs(ratio - 1) < 0.01
    into.tempo.append(right)
    into.tempo_pressed.append(right or any(abs(ratio * f - 1) < 0.01 for f in FACTORS))
    into.pooled.append((reading.tempo_confidence, right))
    mine = [reading.bar_s(i) for i in range(reading.bar_count + 1)]
    recall, precision = near(truth.bars_s[:-1], mine, NEAR_S), near(mine[:-1], truth.bars_s, NEAR_S)
    bars_right = (recall > 0.8 and precision > 0.4) or (precision > 0.8 and recall > 0.4)
    into.downbeats.append(bars_right)
    into.pooled.append((reading.downbeat_confidence, bars_right))
    _key(track, reading, into)
    _chords(track, reading, into)
    true = [truth.bars_s[s.first_bar] for s in truth.sections[1:]]
    edges = [reading.bar_s(s.first_bar) for s in reading.sections[1:]]
    bar = 1.1 * float(np.median(np.diff(truth.bars_s)))
    recall, precision = near(true, edges, bar), near(edges, true, bar)
    into.sections.append(2 * recall * precision / max(recall + precision, 1e-9))
    into.pooled += [(s.confidence, near([at], true, bar) > 0) for s, at in zip(reading.sections[1:], edges)]


def _key(track: Track, reading: StudyReading, into: Scores) -> None:
    truth, key = track.truth, parse_key(reading.key or "C major")
    minor = key.mode in ("minor", "dorian", "phrygian")
    relative = minor != truth.minor and (key.tonic_class - truth.tonic) % 12 == (9 if minor else 3)
    right = reading.key is not None and ((key.tonic_class == truth.tonic and minor == truth.minor) or relative)
    into.key.append(right)
    into.pooled.append((reading.key_confidence, right))


def _chords(track: Track, reading: StudyReading, into: Scores) -> None:
    good = count = 0
    for c in reading.chords:
        chord = parse_chord(c.chord)
        minor = (chord.root_class + 3) % 12 in chord.classes
        for beat in range(c.beat, c.end_beat):
            middle = (reading.beats_s[beat] + reading.beats_s[beat + 1]) / 2
            true = next((t for t in track.truth.chords if t[0] <= middle < t[1]), None)
            if true is not None:
                right = (chord.root_class, minor) == true[2:]
                good, count = good + right, count + 1
                into.pooled.append((c.confidence, right))
    into.chords.append(good / max(1, count))


def studies() -> None:
    """Rows of what was right on the judging set, against what is wanted; and the time that four minutes take."""
    found = {True: Scores(), False: Scores()}
    spent: list[float] = []
    for track in tracks():
        audio = np.concatenate(list(track.blocks()), axis=1)
        begun = time.perf_counter()
        reading = study(lambda low, count, audio=audio: audio[:, low : low + count], Given())  # type: ignore[misc]
        spent.append((time.perf_counter() - begun) / (audio.shape[1] / 44_100) * 240.0)
        score(track, reading, found[track.judge])
    judged, fitted = found[True], found[False]
    wanted = {"tempo": 0.85, "tempo_pressed": 0.95, "downbeats": 0.8, "key": 0.9, "chords": 0.7, "sections": 0.75}
    print(f"\n{len(judged.tempo)} tracks judged, {len(fitted.tempo)} looked at")
    for name, least in wanted.items():
        value, other = float(np.mean(getattr(judged, name))), float(np.mean(getattr(fitted, name)))
        print(f"  {name:14s} {value:.3f} (wanted {least}; looked at {other:.3f})")
    print("  said to be so sure, were right (judged, pooled):")
    rows = np.array(judged.pooled, float)
    for low, high in BINS:
        inside = (rows[:, 0] >= low) & (rows[:, 0] < high)
        if inside.sum() >= 100:
            print(f"    {rows[inside, 0].mean():.2f}: {rows[inside, 1].mean():.2f} of {int(inside.sum())}")
    row("four minutes taken apart", float(np.median(spent)), 15.0, "s", load=SOUND)


PIECES = {"half speed": (0.5, False, "all"), "an octave up": (1.0, True, "all"), "held apart": (1.0, False, "held")}


def _piece_ms(content: str, at: float, how: tuple[float, bool, str]) -> float:
    return 1000 * seconds(lambda: piece_wav(content, -12.0, at, at + 1.2, *how))


def heard_pieces() -> None:
    """How soon a piece sounds at half speed, an octave up, held apart; how large the page of a study is."""
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder), cache_mb=100)
        audio = np.concatenate(list(tracks(judge=True)[0].blocks()), axis=1)
        sample = studio.samples.add_audio("Track", audio, "", "own", "")
        content = studio.samples.card(sample).content
        piece_wav(content, -12.0, 3.0, 4.2, 0.5, False, "all")
        for name, how in PIECES.items():
            times = [_piece_ms(content, 10.0 + 2 * i, how) for i in range(8)]
            row(f"first piece of a track, {name}, median of 8", float(np.median(times)), 200, "ms", load=SOUND)
        study_id = studio.studies.add(content, "Track")
        studio.studies.read(study_id)
        row("the same study asked for again", 1000 * seconds(lambda: studio.studies.get(study_id)), 50, "ms")
        app = create_app(studio, testing=True)
        row("page of a study", len(app.test_client().get(f"/studies/{study_id}").data) / 1000, 400, "KB")
        studio.close()


def stems() -> None:
    """Thirty stems of four minutes laid: the tracks of the judging set, turned against each other, as a kit of files."""
    length, rate = 240 * 44_100, 44_100
    with tempfile.TemporaryDirectory() as folder:
        (kit := Path(folder) / "kit").mkdir()
        base = np.concatenate(list(tracks(judge=True)[0].blocks()), axis=1)
        base = np.tile(base, (1, -(-length // base.shape[1])))[:, :length]
        bar = round(rate * 60.0 / tracks(judge=True)[0].truth.tempo_bpm * 4)
        for i in range(30):
            sound = np.roll(base, i * bar, axis=1) * np.float32(0.05 + 0.004 * i)
            soundfile.write(str(kit / f"{i:02d} stem.wav"), sound.T, rate, subtype="PCM_16")
        (data := Path(folder) / "data").mkdir()
        studio = Studio(data, cache_mb=100)
        files = [(f, f.name) for f in stem_files(kit)]
        row(
            "thirty stems of four minutes laid",
            seconds(lambda: bring_in_stems(studio, files, "Kit")),
            90,
            "s",
            load=SOUND,
        )
        studio.close()


if __name__ == "__main__":
    studies()
    heard_pieces()
    stems()
