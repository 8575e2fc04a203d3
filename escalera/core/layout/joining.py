"""Which devices carry the joins of a layout, by what each join does and what carried the ones before it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from escalera.core.bench.seats import seats
from escalera.core.document.carriers import Build
from escalera.core.document.schools import switch_value
from escalera.core.document.song import Section, Song
from escalera.core.edits.join_edits import AddDevice, join_metre
from escalera.core.layout.plans import PEAKS, Stance
from escalera.core.palette.join_kinds import SNARES
from escalera.errors import EditError

CLIMB, FALL = 0.9, -0.9
Row = tuple[tuple[str, float], ...]  # kinds of devices and their lengths in beats; 0 is the usual one
# ways into a peak, into a higher section, into a lower one, and between equals; each is used before any comes again
INTO_PEAK: tuple[Row, ...] = (
    (("roll", 8), ("crash", 0), ("gap", 1)),
    (("riser", 16), ("impact", 0), ("gap", 0.5)),
    (("fill", 4), ("reversed-crash", 4), ("crash", 0)),
    (("sweep-up", 8), ("crash", 0), ("beat-out", 1)),
)
INTO_HIGHER: tuple[Row, ...] = (
    (("fill", 4), ("crash", 0)),
    (("reversed-crash", 4),),
    (("riser", 8),),
    (("sweep-up", 4), ("crash", 0)),
    (("fill", 2),),
)
INTO_LOWER: tuple[Row, ...] = (
    (("sweep-down", 8),),
    (("echo-throw", 1),),
    (("stop", 2),),
    (("impact", 0),),
    (("drawn-out", 4),),
)
BETWEEN: tuple[Row, ...] = ((("fill", 2),), (("breath", 0.5),), (("pickup", 1),), (("reversed-crash", 2),))
STANDARD: dict[str, Row] = {
    "peak": (("roll", 8), ("riser", 16), ("crash", 0), ("gap", 1)),
    "higher": (("riser", 8), ("crash", 0)),
    "lower": (("sweep-down", 8),),
    "level": (("fill", 2),),
}
CHOICES = {"peak": INTO_PEAK, "higher": INTO_HIGHER, "lower": INTO_LOWER, "level": BETWEEN}


def with_devices(song: Song, section_ids: Sequence[int], stance: Stance) -> Song:
    """The song with its chosen sections entered by devices; those that stood there give way, other sections keep theirs."""
    standard = switch_value(song.school, song.switches, "builds") == "standard"
    used = dict.fromkeys(CHOICES, stance.held)
    gaps, known = 0, {x.id for x in song.layers}
    for index, section in enumerate(song.sections):
        if section.id not in section_ids:
            continue
        song = song.with_section(replace(song.sections[index], devices=(), build=None))
        if not index or not song.sections[index - 1].placements or not section.placements:
            continue
        kind = _kind(song.sections[index - 1], section)
        row = STANDARD[kind] if standard else CHOICES[kind][used[kind] % len(CHOICES[kind])]
        used[kind] += 1
        if section.role == "drop" and not any(name == "gap" for name, _ in row):
            row = (*row, ("gap", 1.0))
        for name, beats in row:
            if name == "gap":
                beats, gaps = (1.0 if not gaps else 0.5), gaps + 1  # the second gap is shorter than the first
            song = _added(song, section.id, name, beats)
        if section.role == "drop" and song.sections[index - 1].role == "build":
            song = _with_build(song, index)
    return _said_why(song, known)


def _said_why(song: Song, known: set[int]) -> Song:
    """What was brought in to carry joins says so."""
    layers = (x if x.id in known else replace(x, reason="carries joins", stand_in=True) for x in song.layers)
    return replace(song, layers=tuple(layers))


def _kind(left: Section, right: Section) -> str:
    step = right.target.at(0.0) - left.target.at(1.0, before=True)
    if right.role in PEAKS and step > 0:
        return "peak"
    return "higher" if step > CLIMB else "lower" if step < FALL else "level"


def _added(song: Song, section_id: int, kind: str, beats: float) -> Song:
    """With one device more, where it can be: not every song has who would play it."""
    metre = join_metre(song, section_id)
    ticks = round(beats * metre.beat_ticks)
    left = song.sections[song.index_of(section_id) - 1]
    device = AddDevice(section_id, kind)
    if beats and kind not in ("sweep-down", "impact", "crash"):
        ticks = min(ticks, left.bars * metre.bar_ticks)
        device = AddDevice(section_id, kind, -ticks, ticks)
    try:
        return device.apply(song)
    except EditError:
        return song


def _with_build(song: Song, index: int) -> Song:
    """A build over the last bars before a drop: a filter opens, and the lows leave for its last bar."""
    left, right = song.sections[index - 1], song.sections[index]
    row = seats(song)
    metre = join_metre(song, right.id)
    lows = metre.bar_ticks if left.bars >= 4 else 0
    keeps = tuple(sorted({p.layer_id for p in left.placements}))
    if not any(s.part == "kick" for s in row) or not keeps or not any(s.layer.sound_key in SNARES for s in row):
        return song
    build = Build(bars=min(left.bars, 8), shape="straight", keeps=keeps, filter_from_hz=1200.0, lows_out_ticks=lows)
    return song.with_section(replace(right, build=build))
