"""The heaviest file that is read: as many notes, bars and distinct bars as the limits let in."""

from __future__ import annotations

import io
import time

import mido
import numpy as np

from benchmarks.table import row
from escalera.services.importing import import_file

PARTS, NOTES, BARS, BAR_TICKS = 12, 4900, 995, 1920


def files() -> None:
    data = heaviest()
    begun = time.process_time()
    import_file("heaviest.mid", data)
    row(f"file of {PARTS * NOTES:,} random notes in {BARS} bars, processor time", time.process_time() - begun, 5.0, "s")


def heaviest() -> bytes:
    """A MIDI file of random notes, so that no bar is like another."""
    dice, file = np.random.default_rng(5), mido.MidiFile(ticks_per_beat=BAR_TICKS // 4)
    for channel in range(PARTS):
        starts = np.sort(dice.integers(0, BARS * BAR_TICKS, NOTES))
        ends, pitches = starts + dice.integers(60, 900, NOTES), dice.integers(30, 90, NOTES)
        rows = [(t, "note_on", p) for t, p in zip(starts, pitches)] + [
            (t, "note_off", p) for t, p in zip(ends, pitches)
        ]
        track, now = mido.MidiTrack([mido.MetaMessage("track_name", name=f"Part {channel}")]), 0
        for tick, kind, pitch in sorted((int(t), kind, int(p)) for t, kind, p in rows):
            track.append(mido.Message(kind, channel=channel % 9, note=pitch, velocity=80, time=tick - now))
            now = tick
        file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()
