"""Figures of counting and harmony: voice leading, edits on the harmony page, key finding on scores of an open library."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

from benchmarks.table import row, seconds, time_edits
from escalera.core.document.song import Song
from escalera.core.theory.chords import QUALITIES, Chord
from escalera.core.theory.key_finding import find_key, slices_of_notes
from escalera.core.theory.keys import Key
from escalera.core.theory.pitch import name_to_fifths
from escalera.core.theory.voicings import voice_path

SCORES = 40  # a sample that keeps the whole run under five minutes
LINES = ("I | V | vi | IV", "i VI | III VII", "<F | G@3.5 Am | % | C7", "Dm7 | G7 | Cmaj7 | A7")


def harmony(song: Song) -> None:
    voice_leading()
    time_edits(song, "harmony", 200, 3, _edit)
    key_finding()


def voice_leading() -> None:
    """Sixteen chords of four voices, never seen before."""
    dice, names, times = random.Random(5), list(QUALITIES), []
    for _ in range(60):
        chords = tuple(Chord(dice.randint(-5, 6), dice.choice(names)) for _ in range(16))
        times.append(seconds(lambda: voice_path(chords, 4, 62)))  # noqa: B023
    row("voice leading of 16 chords, 4 voices, 95th percentile of 60", 1000 * float(np.percentile(times, 95)), 20, "ms")


def _edit(song: Song, section_id: int, dice: random.Random) -> dict[str, object]:
    pads = [x for x in song.layers if x.family == "chords"]
    return dice.choice((
        {"kind": "set_chords", "chords": dice.choice(LINES), "section_id": section_id},
        {"kind": "set_chords", "chords": dice.choice(LINES), "select": "song:0:0:0:0"},
        {"kind": "push_chords", "push_ticks": dice.choice((0, 480)), "select": "song:0:0:0:0"},
        {"kind": "stretch_chords", "bars": dice.choice((2, 4, 8)), "section_id": section_id},
        {"kind": "set_voicing", "layer_id": dice.choice(pads).id, "part": "spread", "value": dice.choice(("close", "open", "wide"))},
        {"kind": "set_key", "key": dice.choice(("D minor", "Eb major", "F# minor")), "select": "song:0:0:0:0"},
    ))  # fmt: skip


def key_finding() -> None:
    """Keys of scores whose signature agrees with their last bass note, against the library's own analysis."""
    try:
        scores = list(_scores())
    except ImportError:
        print("key finding on scores: install the extra first: pip install -e '.[bench]'")
        return
    ours = theirs = ours_half = theirs_half = 0.0
    for truth, notes, library in scores:
        found = find_key(slices_of_notes(notes))
        mine = found.best if found else None
        ours, ours_half = ours + (mine == truth), ours_half + _half(mine, truth)
        theirs, theirs_half = theirs + (library == truth), theirs_half + _half(library, truth)
    n = len(scores)
    row(f"key of {n} scores, share right (budget: the library's own)", ours / n, theirs / n, "", True)
    row(f"key of {n} scores, relative key counted half", ours_half / n, theirs_half / n, "", True)


def _half(found: Key | None, truth: Key) -> float:
    return 1.0 if found == truth else 0.5 if found is not None and found == truth.relative() else 0.0


def _scores() -> Iterator[tuple[Key, np.ndarray, Key]]:
    """The label, the notes (start, end, pitch) and the library's reading of every score that qualifies."""
    from music21 import corpus, key

    paths = [p for p in corpus.getCorePaths() if p.suffix in (".mxl", ".xml", ".krn")]
    dice = random.Random(1)
    dice.shuffle(paths)
    found = 0
    for path in paths:
        if found == SCORES:
            return
        try:
            score = corpus.parse(path)
            if len(score.flatten().notes) > 1500:
                continue
            signatures = {s.sharps for s in score.flatten().getElementsByClass(key.KeySignature)}
            notes = np.array([
                (round(float(n.offset) * 960), round(float(n.offset + n.duration.quarterLength) * 960), p.midi)
                for n in score.flatten().notes for p in n.pitches if n.duration.quarterLength > 0
            ], np.int64)  # fmt: skip
            if len(signatures) != 1 or len(notes) < 40:
                continue
            truth = _label(signatures.pop(), notes)
            if truth is None:
                continue
            reading = score.analyze("key")
        except ImportError:
            raise
        except Exception:  # noqa: BLE001, S112 — a score that the library cannot read is left out
            continue
        found += 1
        yield truth, notes, Key(name_to_fifths(reading.tonic.name.replace("-", "b")), reading.mode)


def _label(sharps: int, notes: np.ndarray) -> Key | None:
    """Major or minor by the last bass note; None where it is the home note of neither."""
    last = notes[notes[:, 1] == notes[:, 1].max(), 2].min() % 12
    for candidate in (Key(sharps, "major"), Key(sharps + 3, "minor")):
        if candidate.tonic_class == last:
            return candidate
    return None
