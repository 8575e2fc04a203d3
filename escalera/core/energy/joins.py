"""What carries a join: the devices in the last phrase before it and on the first beat after it."""

from __future__ import annotations

from escalera.core.caching import Results
from escalera.core.document.song import Song
from escalera.core.energy.model import SectionCore
from escalera.core.reading.events import START, VELOCITY, heard_in, layer_events, sounding_layers
from escalera.core.reading.timeline import Span

# device: (what is said, sign on the medallion)
DEVICES = {
    "rise": ("a riser climbs into it", "slash"),
    "roll": ("the drums roll into it", "bars"),
    "opening": ("a filter opens into it", "wedge"),
    "crash": ("a crash on the one", "diamond"),
    "pickup": ("a pickup leads in", "hook"),
    "gap": ("a gap before it", "ring"),
    "kick leaves": ("the kick stops there", "down"),
    "kick enters": ("the kick comes in there", "up"),
    "nothing": ("nothing carries it", "hollow"),
}
ROLL_HITS_PER_BEAT = 3.0


def join_devices(song: Song, left: Span, right: Span, song_right: Song | None = None) -> list[str]:
    """Devices at the join of two neighbouring sections, strongest first; ['nothing'] where there are none.

    `song_right` is the state that `right` was taken from when it is not `song`: unchanged sections are kept from
    the state in which they were last computed.
    """
    found = []
    song_right = song_right or song
    before, after = sounding_layers(song, left.section), sounding_layers(song_right, right.section)
    tail = left.phrase_ticks()[-1][0]
    last_beat = left.length_ticks - left.bar_metres[-1].beat_ticks
    if any(x.sound.rise and (layer_events(song, left, x).table[:, START] >= tail - 1).any() for x in before):
        found.append("rise")
    if _hits(song, left, last_beat, left.length_ticks, ("snare", "clap")) >= ROLL_HITS_PER_BEAT:
        found.append("roll")
    if any(p.variation.slope > 0 and p.end_ticks == left.length_ticks for p in left.section.placements):
        found.append("opening")
    if _hits(song_right, right, -1, right.bar_metres[0].beat_ticks // 4, ("crash",)):
        found.append("crash")
    if any((layer_events(song_right, right, x).table[:, START] < 0).any() for x in after):
        found.append("pickup")
    if _starts(song, left, last_beat) == 0 and _starts(song, left, tail) > 3:
        found.append("gap")
    kicks = (
        _hits(song, left, tail, left.length_ticks, ("kick",)),
        _hits(song_right, right, -1, right.bar_ticks[1], ("kick",)),
    )
    if kicks[0] and not kicks[1]:
        found.append("kick leaves")
    if kicks[1] and not kicks[0]:
        found.append("kick enters")
    return found or ["nothing"]


_kept: Results[tuple[str, ...]] = Results(2048)


def devices_between(left: SectionCore, right: SectionCore) -> tuple[str, ...]:
    """`join_devices` of two neighbouring sections of an arranged song, remembered while they play the same."""
    key = (heard_in(left.song, left.span), heard_in(right.song, right.span))
    return _kept.get_or_make(key, lambda: tuple(join_devices(left.song, left.span, right.span, right.song)))


def _hits(song: Song, span: Span, low: int, high: int, drums: tuple[str, ...]) -> float:
    total = 0.0
    for layer in sounding_layers(song, span.section):
        if layer.sound.drum in drums:
            table = layer_events(song, span, layer).table
            inside = table[(table[:, START] >= low) & (table[:, START] < high)]
            total += float(inside[:, VELOCITY].clip(max=100).sum()) / 100.0
    return total


def _starts(song: Song, span: Span, low: int) -> int:
    return sum(
        int((layer_events(song, span, x).table[:, START] >= low).sum()) for x in sounding_layers(song, span.section)
    )
