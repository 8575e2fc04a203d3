"""Joins: a device moved and heard, its tension, the table of all joins, and what devices cost a song that has many."""

from __future__ import annotations

import itertools
import statistics

from benchmarks.songs import CACHE_MB
from benchmarks.table import SOUND, row, seconds
from escalera.core.document.song import Song
from escalera.core.edits import EDITS
from escalera.core.energy.join_cues import join_cues
from escalera.core.energy.join_reading import read_join
from escalera.core.joins import played
from escalera.services.demo import demo_songs
from escalera.services.join_service import join_passage
from escalera.services.rendering import Rendering

CHANGES = 20


def joins() -> None:
    """A sitting at the second chorus of the demo song, with the default cache as `make demo` has it."""
    song = demo_songs()[0]
    section = next(s for s in song.sections if s.name == "Chorus 2")
    index, rendering = song.index_of(section.id), Rendering(min(CACHE_MB, 220))
    join_passage(rendering, song, index, 4, 2)
    states, steps = [song], itertools.cycle((120, -60, -60, 240, -240))
    for _ in range(CHANGES):
        device = states[-1].section_by_id[section.id].devices[0]
        states.append(EDITS["nudge_device"](section.id, device.id, next(steps)).apply(states[-1]))
    tension = [1000 * seconds(lambda s=s: read_join(s, index)) for s in states[1:]]  # type: ignore[misc]
    heard = [1000 * seconds(lambda s=s: join_passage(rendering, s, index, 4, 2)) for s in states[1:]]  # type: ignore[misc]
    row("tension of a join after a change, median", statistics.median(tension), 50, "ms")
    row("six bars about a join after a change, median", statistics.median(heard), 100, "ms", load=SOUND)
    many = _crowded(song)
    devices = sum(len(s.devices) for s in many.sections)
    row(f"a song with {devices} devices as it is played", 1000 * seconds(lambda: played(many)), 50, "ms")
    row("the table of all its joins", 1000 * seconds(lambda: join_cues(many)), 200, "ms")


def _crowded(song: Song) -> Song:
    """The song with everything at every join that fits there."""
    for section in song.sections[1:]:
        for kind in ("riser", "roll", "fill", "crash", "impact", "reversed-chord", "filter-open", "gap"):
            song = EDITS["add_device"](section.id, kind).apply(song)
    return song
