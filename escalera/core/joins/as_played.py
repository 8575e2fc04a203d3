"""The song as it is played: devices and builds at its joins laid out as notes, silences and curves.

Whoever renders, measures, judges or exports asks for it; whoever edits never does.
"""

from __future__ import annotations

from escalera.core.document.carriers import JoinDevice
from escalera.core.document.chord_text import unrolled, with_chord_over
from escalera.core.document.song import Progression, Song
from escalera.core.joins.actions import ACTS, silences
from escalera.core.joins.builds import lay_build
from escalera.core.joins.workings import Join, Workings
from escalera.core.reading.section_harmony import progression_of, tonic_chord
from escalera.core.reading.timeline import Span, timeline
from escalera.core.voices.word_places import chords_on_words, moments_played

IDS_A_JOIN = 4096
LAST = ("mute-pattern", "stop", "beat-out", "breath", "gap")  # what takes away comes after what brings


def played(song: Song) -> Song:
    """The song with what carries its joins in place; itself where nothing does. Made once per state."""
    if not any(s.devices or s.build or s.moments for s in song.sections):
        return song
    if "played" not in song.memo:
        song.memo["played"] = _played(song)
    played_song: Song = song.memo["played"]
    return played_song


def played_at(song: Song, span: Span) -> tuple[Song, Span]:
    """A song as it is played, and where one of its sections lies there."""
    after = played(song)
    return (song, span) if after is song else (after, timeline(after).span_of(span.section.id))


def _played(song: Song) -> Song:
    work = Workings(song)
    for index in range(len(song.sections)):
        lay_join(work, index)
        lay_moments(work, index)
        lay_chords(work, index)
    return work.song_made()


def lay_moments(work: Workings, index: int) -> None:
    """What is tied to words of a section, where they are sung; what takes away comes last."""
    join = work.join(index)
    work.ids.next_id = -IDS_A_JOIN * join.right.section.id - IDS_A_JOIN // 2
    devices = moments_played(work.song, join.right)
    for device in sorted(devices, key=lambda d: LAST.index(d.kind) if d.kind in LAST else -1):
        low, high = extent_of(work, join, device)
        if low < high and (device.layer_id in work.song.layer_by_id or not device.layer_id):
            ACTS[device.kind](work, join, device, low, high)


def lay_chords(work: Workings, index: int) -> None:
    """Chords that are tied to words of a section, over the ones that stand there."""
    span = work.join(index).right
    found = chords_on_words(work.song, span)
    if not found:
        return
    loop = progression_of(work.song, span.section) or Progression(((0, tonic_chord(work.song.key)),), span.length_ticks)
    written = Progression(tuple(unrolled(loop, span.length_ticks)), span.length_ticks)
    for low, high, chord in found:
        written = with_chord_over(written, low, high, chord)
    work.progressions[span.section.id] = written


def lay_join(work: Workings, index: int) -> None:
    """All that carries one join."""
    join = work.join(index)
    section = join.right.section
    work.ids.next_id = -IDS_A_JOIN * section.id  # the same at every state, so that what did not change is found again
    if section.build and not section.build.parked:
        lay_build(work, join, section.build)
    for device in sorted(section.devices, key=lambda d: LAST.index(d.kind) if d.kind in LAST else -1):
        if not device.parked:
            low, high = extent_of(work, join, device)
            if low < high:
                ACTS[device.kind](work, join, device, low, high)


def extent_of(work: Workings, join: Join, device: JoinDevice) -> tuple[int, int]:
    """First tick of a device and the one after its last, counted from the one: inside the song, and before the gap where it would last into it."""
    low, high = max(device.start_ticks, work.earliest(join)), min(device.end_ticks, work.latest(join))
    if device.kind not in LAST:
        rests = [a for a, b in silences(work, join) if low < a < high <= max(b, 0)]
        high = min([high, *rests])
    return low, high


def placed_at(song: Song, index: int) -> list[tuple[JoinDevice, int, int]]:
    """Devices that sound at the join into a section, by its place, with their first tick and the one after their last."""
    if not any(not d.parked for d in song.sections[index].devices):
        return []
    work = Workings(song)
    join = work.join(index)
    rows = [(d, *extent_of(work, join, d)) for d in song.sections[index].devices if not d.parked]
    return [row for row in rows if row[1] < row[2]]


def device_tiles(song: Song) -> dict[int, frozenset[tuple[int, int]]]:
    """Where devices and builds let layers play, by layer: (section, phrase)."""
    found: dict[int, set[tuple[int, int]]] = {}
    after = played(song)
    for span in timeline(after).spans if after is not song else ():
        for placement in (p for p in span.section.placements if p.id < 0 and p.pattern_id < 0):
            for phrase, (low, high) in enumerate(span.phrase_ticks()):
                if placement.start_ticks < high and placement.end_ticks > low:
                    found.setdefault(placement.layer_id, set()).add((span.section.id, phrase))
    return {layer: frozenset(places) for layer, places in found.items()}
