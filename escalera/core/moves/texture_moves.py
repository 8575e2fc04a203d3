"""Moves of texture: stripped, doubled, widened, answered, teased, another sound."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from escalera.core.bench.tune_map import tune_source
from escalera.core.document.limits import MAX_CHAIN
from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Ids, Layer, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import Edit
from escalera.core.edits.line_edits import DoubleLine, MakeLine, TransformLine
from escalera.core.edits.sound_edits import AddEffect, SetValue
from escalera.core.edits.tile_edits import Lift, ToggleTile
from escalera.core.moves.move import (
    ELSEWHERE,
    Move,
    MoveStep,
    bare,
    changed,
    index_of,
    is_pitched,
    kind,
    playing,
    plays,
    silent,
    span_of,
)
from escalera.core.palette.profiles import width_of
from escalera.core.reading.phrase_notes import line_in, put_rows
from escalera.core.reading.placements import cleared, ordered

OTHER_SOUND = {
    "leads": ("glass-bell", "plucked-lead"),
    "voices": ("ooh-voices", "vowel-voice"),
    "chords": ("wide-saws", "tine-keys"),
    "low end": ("growl-bass", "plucked-bass"),
}
SURPRISE_BARS = 2
DULL_HZ = 700.0


def _tuneful(song: Song, section: Section) -> list[Layer]:
    return [x for x in playing(song, section) if x.family in ("leads", "voices")]


def _chords(song: Song, section: Section) -> list[Layer]:
    return [x for x in playing(song, section) if x.family == "chords" and is_pitched(x)]


@kind("strip", "Strip to one layer", "Everything but one layer falls silent: the barest it can be.", way=-1)
def strip(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    if len(sounding) < 2:
        return
    for layer in sounding:
        if is_pitched(layer) and layer.family in ("voices", "leads", "chords"):
            edits = tuple(Lift(section.id, x.id) for x in sounding if x.id != layer.id)
            yield Move(f"strip:{layer.id}", f"Strip to {layer.name} alone", edits)


@kind("bass and drums", "Strip to bass and drums", "Only what carries the groove stays.", way=-1)
def bass_and_drums(song: Song, section: Section) -> Iterator[Move]:
    stays = [x for x in playing(song, section) if x.sound.is_drum or x.family == "low end"]
    goes = [x for x in playing(song, section) if x not in stays]
    if stays and goes:
        yield Move("bass and drums", "Strip to bass and drums", tuple(Lift(section.id, x.id) for x in goes))


def copy_here(section: Section, layer: Layer, sound: str, octave: int, pan: float) -> DoubleLine:
    """A copy of a layer's line on a new layer, in one section only."""
    return DoubleLine(layer.id, sound, octave, pan, section.id, softer_db=4.0)


@kind(
    "octave up",
    "Double the chords an octave up",
    "A copy an octave higher lifts the chords and leaves the middle alone.",
    way=1,
)
def octave_up(song: Song, section: Section) -> Iterator[Move]:
    for layer in _chords(song, section):
        step = copy_here(section, layer, layer.sound_key, 1, layer.pan)
        yield Move(f"octave up:{layer.id}", f"Double {layer.name} an octave up", (step,))


WIDE = 0.06  # decorrelated share from which on a sound has sides that can be raised; others are doubled
EMPTIED_DB = -6.0


def _wider(song: Song, section: Section, layers: Sequence[Layer], middle_db: float = 0.0) -> tuple[Edit, ...]:
    """Edits that widen layers in one section: sides raised by 3 dB where there are sides, else two late takes."""
    edits: list[Edit] = []
    number = song.next_id
    for layer in layers:
        kind = "widen" if width_of(layer.sound_key) >= WIDE else "double"
        edits.append(AddEffect(f"layer.{layer.id}", kind, section.id))
        if kind == "widen" and middle_db:
            edits.append(SetValue(f"layer.{layer.id}.fx.{number}.middle_db", middle_db))
        number += 1
    return tuple(edits)


NARROWED = 0.4


def _narrower(song: Song, section: Section, layers: Sequence[Layer]) -> tuple[Edit, ...]:
    """Edits that bring layers nearer to the middle in one section: half as far aside, their own sides down by 8 dB."""
    edits: list[Edit] = []
    number = song.next_id
    for layer in layers:
        there = layer_in(song, section, layer)
        if abs(there.pan) > 0.05:
            edits.append(Treat(section.id, layer.id, "pan", round(there.pan / 2.0, 2)))
        if width_of(layer.sound_key) >= WIDE or _is_wide(layer):
            edits += [
                AddEffect(f"layer.{layer.id}", "widen", section.id),
                SetValue(f"layer.{layer.id}.fx.{number}.amount", NARROWED),
            ]
            number += 1
    return tuple(edits)


@kind(
    "narrow",
    "Narrow",
    "Sides come in and places move toward the middle: a verse that leaves the width to its chorus.",
    way=-1,
    room=True,
)
def narrow(song: Song, section: Section) -> Iterator[Move]:
    able = [
        x
        for x in playing(song, section)
        if not x.prints and len(x.devices) < MAX_CHAIN and _narrower(song, section, [x])
    ]
    for layer in able:
        yield Move(f"narrow:{layer.id}", f"{layer.name} narrower", _narrower(song, section, [layer]))
    if len(able) > 1:
        yield Move("narrow:all", f"{len(able)} layers narrower at once", _narrower(song, section, able))


@kind(
    "widen",
    "Widen",
    "The sides rise by 3 dB, or two late takes stand left and right; as loud as before, and up to 4 dB softer in mono.",
    way=1,
)
def widen(song: Song, section: Section) -> Iterator[Move]:
    able = [
        x
        for x in [*_chords(song, section), *_tuneful(song, section)]
        if not x.prints and len(x.devices) < MAX_CHAIN and not _is_wide(x)
    ]
    for layer in able:
        yield Move(f"widen:{layer.id}", f"{layer.name} wider", _wider(song, section, [layer]))
    if len(able) > 1:
        yield Move("widen:all", f"{len(able)} layers wider at once", _wider(song, section, able))
    sided = [x for x in able if width_of(x.sound_key) >= WIDE]
    if sided:
        names = " and ".join(x.name for x in sided[:2]) + (" and others" if len(sided) > 2 else "")
        yield Move("widen:sides", f"{names} to the sides, the middle emptied", _wider(song, section, sided, EMPTIED_DB))


def _is_wide(layer: Layer) -> bool:
    return any(d.key in ("widen", "double") for d in layer.devices)


@kind(
    "other sound", "Swap the lead’s sound", "The same line on another sound: the ear knows it and hears something new."
)
def other_sound(song: Song, section: Section) -> Iterator[Move]:
    for layer in _tuneful(song, section):
        sound = next(s for s in OTHER_SOUND[layer.family] if s != layer.sound_key)
        steps = (
            copy_here(section, layer, sound, 0, layer.pan),
            Lift(section.id, layer.id),
        )
        yield Move(f"other sound:{layer.id}", f"{layer.name}’s line on {sound.replace('-', ' ')}", steps)


@kind("thicken", "Single notes to chords", "Single notes of a line become chords where they are chord tones.", way=1)
def thicken(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    for layer in [*_tuneful(song, section), *_chords(song, section)]:
        phrases = []
        for i in range(len(section.phrases)):
            notes = line_in(song, span, i, layer).notes
            if notes and len({n.tick for n in notes}) == len(notes) and any(n.kind == 2 for n in notes):
                phrases.append(i)
        if phrases:
            edits = tuple(TransformLine(section.id, layer.id, i, "chords") for i in phrases)
            yield Move(f"thicken:{layer.id}", f"{layer.name} thickened to chords", edits)


@kind("answers", "Answers in the gaps", "A lead that is silent here answers where the voice rests.", way=1)
def answers(song: Song, section: Section) -> Iterator[Move]:
    voice = next((x for x in playing(song, section) if x.family == "voices"), None)
    if voice is None:
        return
    span = span_of(song, section)
    sung = [i for i in range(len(section.phrases)) if line_in(song, span, i, voice).notes]
    for layer in song.layers:
        if layer.family == "leads" and is_pitched(layer) and not layer.muted and not plays(section, layer) and sung:
            edits = tuple(MakeLine(section.id, layer.id, i, "fills-gaps", None, voice.id) for i in sung)
            yield Move(f"answers:{layer.id}", f"{layer.name} answers {voice.name}", edits)


@kind(
    "second half", "The second half gains a layer", "A silent layer comes in halfway, so that the section grows.", way=1
)
def second_half(song: Song, section: Section) -> Iterator[Move]:
    count = len(section.phrases)
    if count < 2:
        return
    for layer in silent(song, section):
        edits = tuple(ToggleTile(section.id, layer.id, i) for i in range(count // 2, count))
        yield Move(f"second half:{layer.id}", f"{layer.name} in the second half", edits)


@kind(
    "stripped first",
    "Stripped, then full",
    "The first half is said again without drums and bass; then everything returns.",
    way=-1,
)
def stripped_first(song: Song, section: Section) -> Iterator[Move]:
    half = len(section.phrases) // 2
    heavy = [x for x in playing(song, section) if x.sound.is_drum or x.family == "low end"]
    light = [x for x in playing(song, section) if x not in heavy]
    if not half or not heavy or not light:
        return
    edits = tuple(Lift(section.id, x.id, i) for x in heavy for i in range(half) if i not in bare(song, section, x))
    if edits:
        yield Move("stripped first", "First half stripped, then full", edits)


@kind("tease", "Tease the tune", "A piece of the tune in the last phrase, before it is heard whole.")
def tease(song: Song, section: Section) -> Iterator[Move]:
    source = tune_source(song)
    if source is None or index_of(song, section) >= song.index_of(source[0]):
        return
    tune = line_in(song, span_of(song, song.section_by_id[source[0]]), source[2], song.layer_by_id[source[1]])
    last = len(section.phrases) - 1
    piece = [n.row for n in tune.notes if 0 <= n.tick < tune.length // 2]
    for layer in song.layers:
        if (
            layer.family == "leads"
            and is_pitched(layer)
            and not layer.muted
            and last in bare(song, section, layer)
            and piece
        ):

            def act(song: Song, layer: Layer = layer) -> Song:
                here = song.section_by_id[section.id]
                length = span_of(song, here).phrase_ticks()[last]
                rows = [r for r in piece if r[0] < length[1] - length[0]]
                return put_rows(song, span_of(song, here), last, layer, rows, "A piece of the tune")

            yield Move(f"tease:{layer.id}", f"{layer.name} teases the tune", (MoveStep("A piece of the tune", act),))


@kind(
    "keep for last",
    "Keep one for the last",
    "A layer leaves all earlier sections of this role, so that the last one gains it.",
    ELSEWHERE,
)
def keep_for_last(song: Song, section: Section) -> Iterator[Move]:
    same = [s for s in song.sections if s.role == section.role]
    if section.role == "none" or len(same) < 2 or same[-1].id != section.id:
        return
    for layer in playing(song, section):
        earlier = [s for s in same[:-1] if plays(s, layer)]
        if len(earlier) == len(same) - 1 and not layer.sound.is_kick:
            edits: tuple[Edit, ...] = tuple(Lift(s.id, layer.id) for s in earlier)
            yield Move(f"keep for last:{layer.id}", f"Keep {layer.name} for {section.name}", edits)


@kind("dull all", "Dull everything", "A low-pass over all that is held and struck, as from the next room.", way=-1)
def dull_all(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    if len(sounding) > 2:
        dull = {"lowpass_start_hz": DULL_HZ, "lowpass_end_hz": DULL_HZ}
        yield Move(
            "dull all", "Dull everything", tuple(e for x in sounding for e in changed(section, x, lambda p: dull))
        )


@kind(
    "surprise",
    "A surprise where the peak is",
    "Everything but what leads leaves where the peak is expected, and comes back: it is wanted twice.",
    way=-1,
)
def surprise(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    leads = [x for x in sounding if x.family in ("voices", "leads")]
    others = [x for x in sounding if x not in leads and x.family != "effects"]
    if (
        section.role not in ("chorus", "drop", "post-chorus")
        or not leads
        or not others
        or section.bars < 2 * SURPRISE_BARS
    ):
        return
    end = span_of(song, section).bar_ticks[SURPRISE_BARS]

    def act(song: Song) -> Song:
        here, ids = song.section_by_id[section.id], Ids(song.next_id)
        placements = list(here.placements)
        for layer in others:
            placements = cleared(placements, layer.id, 0, end, ids)
        return replace(song.with_section(replace(here, placements=ordered(placements))), next_id=ids.next_id)

    label = f"Only {leads[0].name} in the first {SURPRISE_BARS} bars, then everything"
    yield Move("surprise", label, (MoveStep(label, act),))
