"""Moves of ends: of the song (last chord, fade, what is left over), of a section (a beat cut), of phrases (open, open, closed)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from escalera.core.document.names import next_name
from escalera.core.document.song import Ids, Layer, Section, Song, default_phrases
from escalera.core.document.target import Target
from escalera.core.edits.curve_edits import SetCurve
from escalera.core.edits.edit import Edit
from escalera.core.edits.note_edits import ChangeNotes
from escalera.core.joins.workings import Note, Workings
from escalera.core.moves.move import FORM, Move, MoveStep, is_pitched, kind, playing, span_of
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.placements import remap_bars
from escalera.core.reading.section_harmony import section_key
from escalera.core.time.metre import Metre

FADES = (2, 4, 8)  # bars
LEFT_OVER_BARS, LEFT_OVER_DB = 2, -8.0
MORE, ONCE_MORE, OVER = 1, 4, 0  # degrees on which phrases say that more comes, once more, and that it is over


def _is_last(song: Song, section: Section) -> bool:
    return song.sections[-1].id == section.id


@kind("last chord", "Last chord", "The last bar is one chord that rings out: the end is said once.", way=-1, room=True)
def last_chord(song: Song, section: Section) -> Iterator[Move]:
    if not _is_last(song, section) or section.bars < 2 or not any(map(is_pitched, playing(song, section))):
        return

    def act(song: Song) -> Song:
        work = Workings(song, Ids(song.next_id))
        join = work.join(len(song.sections) - 1)
        low, high = join.right.bar_ticks[-2:]
        for layer in playing(song, song.sections[-1]):
            notes = [n for n in work.events(join.right, layer) if n[0] >= low]
            first = [n for n in notes if n[0] - low < 120] if layer.family != "effects" else []
            held: list[Note] = [(low, high - low, p, v) for _, _, p, v in first]
            if held:
                work.play(join, layer, held, low, high)
            else:
                work.clear(join.right.section, layer, low, high)
        return work.written()

    yield Move("last chord", "One chord in the last bar", (MoveStep("The last bar is one chord", act),))


@kind("fade out", "Fade out", "The mix fades over the last bars, and nothing stops.", way=-1, room=True)
def fade_out(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    if not _is_last(song, section) or any(c.lane == "master.level_db" for c in section.curves):
        return
    for bars in FADES:
        if bars <= section.bars:
            start = span.bar_ticks[section.bars - bars]
            points = [
                [start, 0.0, "line"],
                [(start + span.length_ticks) // 2, -10.0, "line"],
                [span.length_ticks, -60.0, "line"],
            ]
            points = points if start == 0 else [[0, 0.0, "hold"], *points]
            yield Move(
                f"fade out:{bars}",
                f"Fade over the last {bars} bars",
                (SetCurve(section.id, "master.level_db", points),),
            )


@kind(
    "left over",
    "A piece is left over",
    "After the end the tune's first notes, alone and softer: as if somebody stayed.",
    FORM,
)
def left_over(song: Song, section: Section) -> Iterator[Move]:
    if not _is_last(song, section) or section.role == "tag":
        return
    for layer in _tunes(song):
        first = next((s for s in song.sections if any(p.layer_id == layer.id for p in s.placements)), None)
        if first is not None:
            yield Move(
                f"left over:{layer.id}",
                f"{layer.name}’s first bars after the end",
                (MoveStep("A piece is left over", _with_tag(layer, first, section)),),
            )


def _tunes(song: Song) -> list[Layer]:
    return [x for x in song.layers if x.family in ("leads", "voices") and not x.muted and is_pitched(x)]


def _with_tag(layer: Layer, first: Section, last: Section):  # type: ignore[no-untyped-def]
    def act(song: Song) -> Song:
        ids = Ids(song.next_id)
        here, there = span_of(song, first), span_of(song, last)
        length = LEFT_OVER_BARS * there.bar_metres[-1].bar_ticks
        played = [p for p in first.placements if p.layer_id == layer.id]
        start = min(p.start_ticks for p in played)
        start = here.bar_ticks[here.bar_of(start)]
        mine = [p for p in played if p.start_ticks < start + length and p.end_ticks > start]
        placements = []
        for p in mine:
            low, high = max(0, p.start_ticks - start), min(length, p.end_ticks - start)
            soft = replace(p.variation, level_start_db=LEFT_OVER_DB, level_end_db=LEFT_OVER_DB)
            pattern = song.pattern_by_id[p.pattern_id].pattern
            offset = (p.offset_ticks - start) % pattern.length_ticks
            placements.append(
                replace(p, id=ids(), start_ticks=low, end_ticks=high, offset_ticks=offset, variation=soft)
            )
        tag = Section(
            ids(), next_name(song, "Tag"), "tag", LEFT_OVER_BARS, default_phrases(LEFT_OVER_BARS), Target(1.5, 1.0), shift_semitones=last.shift_semitones,
            metre_changes=() if there.bar_metres[-1] == song.metre else ((0, there.bar_metres[-1]),), progression=first.progression, placements=tuple(placements),
        )  # fmt: skip
        return replace(song, sections=(*song.sections, tag), next_id=ids.next_id)

    return act


@kind(
    "cut a beat",
    "Cut a beat",
    "The last bar is a beat shorter, so that the next section comes before it is expected.",
    FORM,
)
def cut_a_beat(song: Song, section: Section) -> Iterator[Move]:
    span = span_of(song, section)
    metre = span.bar_metres[-1]
    if section.bars < 2 or metre.numerator < 3 or (section.bars > 1 and span.bar_metres[-2] != metre):
        return
    shorter = Metre(metre.numerator - 1, metre.denominator)

    def act(song: Song) -> Song:
        here = song.section_by_id[section.id]
        changes = (*(c for c in here.metre_changes if c[0] < here.bars - 1), (here.bars - 1, shorter))
        reason = here.length_reason or "a beat is cut to move on"
        changed = replace(here, metre_changes=changes, length_reason=reason)
        return song.with_section(remap_bars(here, song.metre, changed, song.metre))

    yield Move("cut a beat", f"Last bar in {shorter}", (MoveStep(f"Last bar in {shorter}", act),))


@kind(
    "phrase endings",
    "Phrases that say more, once more, over",
    "The last notes of phrases stay open, open again, and close on the home note.",
    room=True,
)
def phrase_endings(song: Song, section: Section) -> Iterator[Move]:
    span, count = span_of(song, section), len(section.phrases)
    if count < 2:
        return
    key = section_key(song, section)
    wanted = [MORE, *[ONCE_MORE] * (count - 2), OVER]
    for layer in playing(song, section):
        if layer.family not in ("leads", "voices") or not is_pitched(layer):
            continue
        edits: list[Edit] = []
        for phrase, degree in enumerate(wanted):
            notes = line_in(song, span, phrase, layer).notes
            if not notes:
                break
            last = max(notes, key=lambda n: n.tick)
            target = (key.tonic_class + key.degrees[degree]) % 12
            pitch = min(
                (last.pitch + d for d in range(-6, 7) if (last.pitch + d) % 12 == target),
                key=lambda p: abs(p - last.pitch),
            )
            if pitch != last.pitch:
                edits.append(
                    ChangeNotes(
                        section.id,
                        layer.id,
                        phrase,
                        [[last.tick, last.pitch, last.tick, pitch, None, None]],
                        "scale",
                        True,
                    )
                )
        else:
            if edits:
                yield Move(
                    f"phrase endings:{layer.id}", f"{layer.name}: phrases end open, and close at last", tuple(edits)
                )
