"""Moves of form: repeated, adorned, longer, shorter, entered and left one by one, raised, led into."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from escalera.core.document.chord_text import unrolled
from escalera.core.document.song import Ids, Layer, Progression, Section, Song
from escalera.core.edits.edit import Edit
from escalera.core.edits.form_edits import StretchSection
from escalera.core.edits.note_edits import ChangeNotes
from escalera.core.edits.section_edits import DuplicateSection, ResizeSection, ShiftSection
from escalera.core.edits.song_edits import GlideTempo
from escalera.core.edits.tile_edits import Lift, ToggleTile
from escalera.core.energy.features import section_stats
from escalera.core.energy.stats import BANDS
from escalera.core.moves.move import (
    FORM,
    NEIGHBOUR,
    Move,
    MoveStep,
    bare,
    before_of,
    changed,
    kind,
    playing,
    silent,
    span_of,
)
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.placements import cleared, clip, moved, ordered
from escalera.core.reading.section_harmony import progression_of
from escalera.core.time.ticks import bars_counted

HELD_BARS = (2, 1, 4)
DULL_HZ = 700.0
RITARDANDO = 0.82


def _copy_of(song: Song, section: Section) -> Section:
    """The section that follows, just made as a copy."""
    return song.sections[song.index_of(section.id) + 1]


@kind("adorn", "Copy and adorn", "The section again, with one layer more: the same, and grown.", FORM)
def adorn(song: Song, section: Section) -> Iterator[Move]:
    for layer in silent(song, section):

        def act(song: Song, layer: Layer = layer) -> Song:
            copy = _copy_of(song, section)
            for phrase in range(len(copy.phrases)):
                song = ToggleTile(copy.id, layer.id, phrase).apply(song)
            return song

        edits = (DuplicateSection(section.id), MoveStep(f"{layer.name} joins", act))
        yield Move(f"adorn:{layer.id}", f"{section.name} again, with {layer.name}", edits)


@kind(
    "double chorus",
    "Double, the first one dulled",
    "The section twice: first as from the next room, then as it is.",
    FORM,
)
def double_chorus(song: Song, section: Section) -> Iterator[Move]:
    sounding = playing(song, section)
    if len(sounding) < 3:
        return
    dull = {"lowpass_start_hz": DULL_HZ, "lowpass_end_hz": DULL_HZ}
    edits = (DuplicateSection(section.id), *(e for x in sounding for e in changed(section, x, lambda p: dull)))
    yield Move("double chorus", f"{section.name} twice, first dulled", edits)


@kind("halve", "Cut by half", "The section at half its length: said sooner.", FORM)
def halve(song: Song, section: Section) -> Iterator[Move]:
    if section.bars >= 4 and section.bars % 2 == 0:
        yield Move(
            "halve",
            f"{section.name} in {bars_counted(section.bars // 2)}",
            (ResizeSection(section.id, section.bars // 2),),
        )


@kind(
    "hold on", "Extend on a held chord", "A few bars more on the last chord, without the drums: held for tension.", FORM
)
def hold_on(song: Song, section: Section) -> Iterator[Move]:
    if progression_of(song, section) is None or not playing(song, section):
        return
    old = span_of(song, section).length_ticks

    def act(song: Song) -> Song:
        here = song.section_by_id[section.id]
        end = span_of(song, here).length_ticks
        progression = progression_of(song, section)
        assert progression is not None
        rows = [r for r in unrolled(progression, old) if r[0] < old]
        here = replace(here, progression=Progression(tuple(rows), end))
        ids = Ids(song.next_id)
        placements = list(here.placements)
        for layer in song.layers:
            if layer.sound.is_drum:
                placements = cleared(placements, layer.id, old, end, ids)
        return replace(song.with_section(replace(here, placements=ordered(placements))), next_id=ids.next_id)

    for bars in HELD_BARS:
        stretch = StretchSection(section.id, bars, "held for tension on the last chord")
        yield Move(
            f"hold on:{bars}",
            f"{bars_counted(bars)} more, on a held chord",
            (stretch, MoveStep("The chord is held", act)),
        )


@kind("one chord", "Static harmony", "One chord throughout: the harmony stands still, and what follows moves.", way=-1)
def one_chord(song: Song, section: Section) -> Iterator[Move]:
    progression = progression_of(song, section)
    if progression is None or len({c for _, c in progression.changes}) < 2:
        return

    def act(song: Song) -> Song:
        here = song.section_by_id[section.id]
        return song.with_section(
            replace(here, progression=Progression(((0, progression.changes[0][1]),), progression.length_ticks))
        )

    yield Move("one chord", f"{progression.changes[0][1]} throughout", (MoveStep("One chord", act),))


@kind("raise", "Raise the key", "The section a semitone or a tone higher; chords and lines follow.")
def raise_key(song: Song, section: Section) -> Iterator[Move]:
    for by, words in ((1, "a semitone"), (2, "a tone")):
        if section.shift_semitones + by <= 6:
            yield Move(
                f"raise:{by}",
                f"Raise {section.name} by {words}",
                (ShiftSection(section.id, section.shift_semitones + by),),
            )


def _in_turn(song: Song, section: Section) -> list[Layer]:
    """The layers of a section from what carries it to what adorns it."""
    rank = {"atmosphere": 0, "chords": 1, "low end": 2, "drums": 3, "leads": 4, "voices": 5, "effects": 6}
    return sorted(playing(song, section), key=lambda x: rank[x.family])


@kind("enter one by one", "Enter one by one", "A layer or two more in every phrase, until all play.", way=-1)
def enter(song: Song, section: Section) -> Iterator[Move]:
    edits = _staggered(song, section, _in_turn(song, section), True)
    if edits:
        yield Move("enter one by one", "Layers enter phrase by phrase", edits)


@kind("leave one by one", "Leave one by one", "A layer or two fewer in every phrase, until one is left.", way=-1)
def leave(song: Song, section: Section) -> Iterator[Move]:
    layers, stats = section_stats(song, span_of(song, section))
    power = {x.id: float(p) for x, p in zip(layers, stats[:, :, : len(BANDS)].sum(axis=(1, 2)))}
    heaviest = sorted(playing(song, section), key=lambda x: -power.get(x.id, 0.0))
    edits = _staggered(song, section, heaviest, False)
    if edits:
        yield Move("leave one by one", "Layers leave phrase by phrase, the heaviest first", edits)


def _staggered(song: Song, section: Section, layers: list[Layer], entering: bool) -> tuple[Edit, ...]:
    """Lifts so that layers enter (or, from the front of the list, leave) spread over the phrases; one plays throughout."""
    count = len(section.phrases)
    if count < 2 or len(layers) < 3:
        return ()
    edits: list[Edit] = []
    for i, layer in enumerate(layers):
        if entering:
            gone = range(i * count // len(layers))
        elif i == len(layers) - 1:
            continue
        else:
            gone = range(max(1, (i + 1) * count // len(layers)), count)
        edits += [Lift(section.id, layer.id, p) for p in gone if p not in bare(song, section, layer)]
    return tuple(edits)


@kind("re-intro", "Re-intro", "The opening comes back before this section, half as long.", FORM)
def re_intro(song: Song, section: Section) -> Iterator[Move]:
    first = song.sections[0]
    before = before_of(song, section)
    if before is None or before.id == first.id or first.bars < 4 or not first.placements:
        return

    def act(song: Song) -> Song:
        copy = _copy_of(song, before)
        copy = replace(
            copy, name="Re-intro" if all(s.name != "Re-intro" for s in song.sections) else copy.name, role="re-intro"
        )
        song = song.with_section(copy)
        return ResizeSection(copy.id, max(2, first.bars // 2)).apply(song)

    yield Move(
        "re-intro",
        f"{first.name} again before {section.name}",
        (DuplicateSection(first.id, before.id), MoveStep("Half as long", act)),
    )


@kind("pickup", "Pickup into it", "The line leads in with two notes before the one.", NEIGHBOUR)
def pickup(song: Song, section: Section) -> Iterator[Move]:
    before = before_of(song, section)
    if before is None:
        return
    span, last = span_of(song, section), len(before.phrases) - 1
    there = span_of(song, before)
    length = there.phrase_ticks()[last][1] - there.phrase_ticks()[last][0]
    for layer in playing(song, section):
        if layer.family not in ("leads", "voices", "low end") or layer.sound.is_drum:
            continue
        notes = line_in(song, span, 0, layer).notes
        if not notes or notes[0].tick > 960 or line_in(song, there, last, layer).notes:
            continue
        pitch = notes[0].pitch
        changes = [[None, None, length - 480, pitch - 4, 220, 78], [None, None, length - 240, pitch - 2, 220, 88]]
        edit = ChangeNotes(before.id, layer.id, last, changes, "scale", True)
        yield Move(f"pickup:{layer.id}", f"{layer.name} leads into {section.name}", (edit,))


@kind(
    "borrow the build",
    "Borrow the build",
    "What carried another join (risers, rolls, openings) carries this one, a little changed.",
    NEIGHBOUR,
)
def borrow(song: Song, section: Section) -> Iterator[Move]:
    before = before_of(song, section)
    if before is None:
        return
    low, high = span_of(song, before).phrase_ticks()[-1]
    for other in song.sections[:-1]:
        if other.id == before.id:
            continue
        a, b = span_of(song, other).phrase_ticks()[-1]
        rising = {x.id for x in song.layers if x.sound.rise or x.sound.drum in ("snare", "clap")}
        tail = [q for q in (clip(p, a, b) for p in other.placements if p.layer_id in rising) if q]
        risers = [p for p in tail if song.layer_by_id[p.layer_id].sound.rise]
        mine = {p.layer_id for p in before.placements if p.end_ticks > low}
        if not risers or any(p.layer_id in mine for p in risers) or b - a != high - low:
            continue

        def act(song: Song, tail=tail, a=a) -> Song:  # type: ignore[no-untyped-def]
            here, ids = song.section_by_id[before.id], Ids(song.next_id)
            placements = list(here.placements)
            for p in tail:
                placements = cleared(placements, p.layer_id, low, high, ids)
            for p in tail:
                copy = replace(moved(p, low - a, song), id=ids())
                louder = replace(copy.variation, level_start_db=copy.variation.level_start_db - 6.0)
                placements.append(replace(copy, variation=louder))
            return replace(song.with_section(replace(here, placements=ordered(placements))), next_id=ids.next_id)

        label = f"The build of {other.name}, from softer"
        yield Move(f"borrow the build:{other.id}", label, (MoveStep(label, act),))


@kind("slow the end", "Slow the ending", "The last two bars of the song slow down.")
def slow_end(song: Song, section: Section) -> Iterator[Move]:
    if song.sections[-1].id != section.id or section.bars < 3 or section.tempo_changes:
        return
    span = span_of(song, section)
    start = span.bar_ticks[section.bars - 2]
    to = round(span.tempo_points[-1].bpm * RITARDANDO, 1)
    if to >= 30:
        yield Move(
            "slow the end",
            f"Slow to {to:g} bpm over the last two bars",
            (GlideTempo(section.id, to, start, span.length_ticks),),
        )
