"""Moves of the drums and the low end."""

from __future__ import annotations

from collections.abc import Iterator

from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import Edit
from escalera.core.edits.groove_edits import AdoptGroove, PlaceGroove, VaryGroove
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.tile_edits import Lift, Place, PlaceNew, ToggleTile
from escalera.core.moves.move import Move, MoveStep, bare, changed, kind, playing, plays, silent, span_of
from escalera.core.reading.groove_reading import groove_at, phrase_beat
from escalera.core.rhythm.beat_variations import VARIATIONS
from escalera.errors import EditError

KIT = ("kick", "snare", "closed hat")
SIXTEENTHS = [[240 * i, 120, 0, 70, 0, 72 if i % 4 else 88] for i in range(16)]
CRASH_TICKS = 3840


def _drums(song: Song, section: Section) -> list[Layer]:
    return [x for x in playing(song, section) if x.sound.is_drum]


@kind("no kick", "Take the kick out", "Nothing lifts as much as a kick that comes back.", way=-1)
def no_kick(song: Song, section: Section) -> Iterator[Move]:
    kicks = [x for x in playing(song, section) if x.sound.is_kick]
    if kicks:
        yield Move("no kick", "Take the kick out", tuple(Lift(section.id, x.id) for x in kicks))


@kind("full kit", "Bring the full kit", "Kick, snare and hats play in every phrase.", way=1)
def full_kit(song: Song, section: Section) -> Iterator[Move]:
    missing: list[Edit] = []
    for drum in KIT:
        layer = next((x for x in song.layers if x.sound.drum == drum and not x.muted), None)
        if layer and (plays(section, layer) or layer in silent(song, section)):
            missing += [ToggleTile(section.id, layer.id, i) for i in bare(song, section, layer)]
    if missing:
        yield Move("full kit", "Bring the full kit", tuple(missing))


@kind("thin drums", "Thin the drums", "Every drum but the kick keeps half of its hits, the strongest ones.", way=-1)
def thin_drums(song: Song, section: Section) -> Iterator[Move]:
    drums = [x for x in _drums(song, section) if not x.sound.is_kick]
    if len(drums) > 1:
        edits = [e for x in drums for e in changed(section, x, lambda p: {"keep": p.variation.keep / 2})]
        yield Move("thin drums", "Thin the drums", tuple(edits))


def _with_grooves(song: Song, section: Section) -> Song:
    """The song with what the drums play in every phrase of a section as a groove: where several moves begin."""
    key = ("with grooves", section.id)
    if key not in song.memo:
        made = song
        for phrase, (low, high) in enumerate(span_of(song, section).phrase_ticks()):
            here = made.section_by_id[section.id]
            if phrase_beat(made, span_of(made, here), phrase).hits and groove_at(made, here, low, high) is None:
                made = AdoptGroove(section.id, phrase).apply(made)
        song.memo[key] = made
    return song.memo[key]


def _varied(song: Song, section: Section, variation: str) -> MoveStep:
    """The beats of the section, varied as grooves in every phrase that has one."""

    def act(song: Song) -> Song:
        song = _with_grooves(song, section)
        variants: dict[int, int] = {}
        refused = EditError(f"No drums play in {section.name}, so there is no beat to vary. Place some first.")
        for phrase, (low, high) in enumerate(span_of(song, song.section_by_id[section.id]).phrase_ticks()):
            groove = groove_at(song, song.section_by_id[section.id], low, high)
            if groove is None or groove.id in variants.values():
                continue
            if groove.id in variants:
                song = PlaceGroove(variants[groove.id], section.id, phrase).apply(song)
                continue
            before = set(song.groove_by_id)
            try:
                song = VaryGroove(groove.id, variation, section.id, phrase).apply(song)
            except EditError as error:  # this phrase's beat has nothing to vary; another one may
                refused = error
                continue
            variants[groove.id] = next(iter(set(song.groove_by_id) - before), groove.id)
        if not variants:
            raise refused
        return song

    return MoveStep(VARIATIONS[variation].label, act)


@kind("half time", "Half time", "The beat is felt half as fast: one backbeat a bar.")
def half_time(song: Song, section: Section) -> Iterator[Move]:
    if len(_drums(song, section)) > 1:
        yield Move("half time", "Half time", (_varied(song, section, "half-time"),))


@kind("ride", "Lead on the ride", "What kept time on the hat moves to the ride: wider, and kept for the end.")
def ride(song: Song, section: Section) -> Iterator[Move]:
    if any(x.sound.drum == "closed hat" for x in _drums(song, section)):
        yield Move("ride", "Move the lead cymbal to the ride", (_varied(song, section, "lead-ride"),))


@kind("crash", "Crash on the one", "A crash marks the section's first beat.", way=1)
def crash(song: Song, section: Section) -> Iterator[Move]:
    if any(x.sound.drum == "crash" for x in _drums(song, section)):
        return
    layer = next((x for x in song.layers if x.sound.drum == "crash" and not x.muted), None)
    rows = [[0, 960, 0, 49, 0, 100]]

    def act(song: Song) -> Song:
        song = song if layer else AddLayer("wide-crash").apply(song)
        target = layer or next(x for x in song.layers if x.sound.drum == "crash")
        end = min(CRASH_TICKS, span_of(song, song.section_by_id[section.id]).length_ticks)
        return PlaceNew(section.id, target.id, "Crash on the one", end, rows, start_ticks=0, end_ticks=end).apply(song)

    yield Move("crash", "Crash on the one", (MoveStep("Crash on the one", act),))


@kind(
    "sixteenths",
    "Add sixteenths",
    "A layer in sixteenths (a shaker, where the song has none) drives the section.",
    way=1,
)
def sixteenths(song: Song, section: Section) -> Iterator[Move]:
    layer = next((x for x in song.layers if x.sound.drum == "shaker" and not x.muted), None)
    if layer and plays(section, layer):
        return

    def act(song: Song) -> Song:
        song = song if layer else AddLayer("seed-shaker").apply(song)
        target = layer or next(x for x in song.layers if x.sound.drum == "shaker")
        bar = span_of(song, song.section_by_id[section.id]).bar_ticks[1]
        rows = [r for r in SIXTEENTHS if r[0] < bar]
        return PlaceNew(section.id, target.id, "Sixteenths", bar, rows).apply(song)

    yield Move("sixteenths", "Add a layer in sixteenths", (MoveStep("Sixteenths", act),))


# the low end -----------------------------------------------------------------------------------------------------------------


def _basses(song: Song, section: Section) -> list[Layer]:
    return [x for x in playing(song, section) if x.family == "low end"]


@kind(
    "hold the sub", "Hold the sub back", "The low end waits out the first half and is missed: then it comes in.", way=-1
)
def hold_sub(song: Song, section: Section) -> Iterator[Move]:
    if len(section.phrases) < 2 or not _basses(song, section):
        return
    half = len(section.phrases) // 2
    edits = tuple(
        Lift(section.id, x.id, i)
        for x in _basses(song, section)
        for i in range(half)
        if i not in bare(song, section, x)
    )
    if edits:
        yield Move("hold the sub", "Hold the low end back for the first half", edits)


@kind("sub in", "Bring the sub in", "Something owns the lowest octave: a sine on the roots.", way=1)
def sub_in(song: Song, section: Section) -> Iterator[Move]:
    if any(x.sound_key == "sub-sine" for x in _basses(song, section)):
        return
    known = next((x for x in song.layers if x.sound_key == "sub-sine" and not x.muted), None)
    rows = [[0, 3700, 2, 0, 0, 96]]

    def act(song: Song) -> Song:
        song = song if known else AddLayer("sub-sine").apply(song)
        target = known or next(x for x in song.layers if x.sound_key == "sub-sine")
        if known and known.pattern_id in song.pattern_by_id:
            return Place(section.id, target.id, known.pattern_id).apply(song)
        bar = span_of(song, song.section_by_id[section.id]).bar_ticks[1]
        return PlaceNew(section.id, target.id, "Roots below", bar, [[0, bar - 140, *rows[0][2:]]]).apply(song)

    yield Move("sub in", "Bring the sub in", (MoveStep("The sub comes in", act),))


@kind(
    "bass waits",
    "Bass silent at phrase starts",
    "The bass leaves the first bar of every phrase empty, and answers.",
    way=-1,
)
def bass_waits(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    for layer in _basses(song, section):
        if layer.sound.is_kick:
            continue
        edits = []
        first = 0
        for bars in section.phrases:
            if bars > 1:
                edits.append(
                    Lift(section.id, layer.id, start_ticks=span.bar_ticks[first], end_ticks=span.bar_ticks[first + 1])
                )
            first += bars
        if edits:
            yield Move(f"bass waits:{layer.id}", f"{layer.name} silent in the first bar of every phrase", tuple(edits))
