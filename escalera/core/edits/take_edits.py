"""Edits of takes: kept, described, chosen for the comp piece by piece, used as doubles, polished, taken out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields, replace
from typing import Any

from pydantic import ValidationError

from escalera.core.document.fields import adapter
from escalera.core.document.limits import MAX_CLIPS, MAX_LAYERS, MAX_TAKES, MIN_LEVEL_DB
from escalera.core.document.recordings import QUARTER_TICKS, Clip, Sample
from escalera.core.document.singing import Polish, Take
from escalera.core.document.song import Ids, Layer, NamedPattern, Placement, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import edit, one_of, section_of, whole_number
from escalera.core.edits.layer_edits import RemoveLayer, free_layer_name, in_family_order, seed_of
from escalera.core.edits.recording_edits import USUAL_JOB, VELOCITY, levelled, sample_from, with_sample
from escalera.core.palette.recorded_sounds import PART
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS
from escalera.core.reading.placements import cleared, ordered
from escalera.core.reading.timeline import Span, timeline
from escalera.core.rhythm.pattern import CLIP, Pattern
from escalera.core.voices.comp import (
    FADE_MS,
    CompPart,
    comp_of,
    laid_over,
    seam_near,
    sung_layer,
    take_number,
    ticks_at,
)
from escalera.core.voices.melody import guide_of
from escalera.errors import EditError, shown

JOBS = {LEAD: "hook", "answer": "answer", "ad libs": "answer"}
SET_BY_HAND = ("name", "singer", "sent_by", "wet", "aside", "reason", "zero_s")


def take_of(song: Song, take_id: int) -> Take:
    """A take by its id. EditError where it is gone."""
    found = song.take_by_id.get(take_id)
    if found is None:
        raise EditError(
            f"Take {take_id} is not in this song any more. Choose one that is; undo brings back what was taken out."
        )
    return found


def read_take(values: dict[str, Any]) -> Take:
    """A take from plain values. Raises EditError."""
    try:
        return adapter(Take).validate_python(values)
    except ValidationError as error:
        raise EditError(_wrong(error, "take")) from error


def _wrong(error: ValidationError, what: str) -> str:
    first = error.errors()[0]
    where = " ".join(str(p) for p in first["loc"]).replace("_", " ")
    return f"The {what}’s {where} “{shown(first.get('input', ''))}” cannot be used ({first['msg'].lower()})."


def with_take(song: Song, take: Take) -> Song:
    """The song with a take exchanged."""
    return replace(song, takes=tuple(take if t.id == take.id else t for t in song.takes))


def said_take(song: Song, take: Take) -> str:
    """A take in words, for the history."""
    section = song.section_by_id.get(take.section_id)
    return f"take {take_number(song, take)} of {section.name if section else 'a section that is gone'}"


@edit("add_take", "layers notes placements singing shaping")
class AddTake:
    """Keep a take of a section; the first one of its voice is heard at once, later ones wait to be chosen."""

    take: dict[str, Any]
    sample: dict[str, Any]
    lay: str = "first"

    def apply(self, song: Song) -> Song:
        sample = sample_from(self.sample)
        take = read_take({**self.take, "id": song.next_id, "content": sample.content})
        section = section_of(song, take.section_id)
        if len(song.takes) >= MAX_TAKES:
            raise EditError(f"The song keeps {MAX_TAKES} takes, and no more fit. Take out some that were set aside.")
        take = replace(take, high_ticks=take.high_ticks or timeline(song).span_of(section.id).length_ticks)
        if take.low_ticks >= take.high_ticks:
            raise EditError(f"The take would end at tick {take.high_ticks}, before it begins. Record it again.")
        song = with_sample(song, sample)
        song = replace(song, takes=(*song.takes, take), next_id=song.next_id + 1)
        first = not comp_of(song, section, take.voice)
        if self.lay == "never" or (self.lay == "first" and not first):
            return song
        return _over(song, section, take, take.low_ticks, take.high_ticks)

    def summary(self, song: Song) -> str:
        section = song.section_by_id.get(whole_number(self.take.get("section_id", 0)))
        return f"Recorded a take of {section.name if section else 'a section'}, {self.take.get('voice', LEAD)}"


@edit("set_take", "singing placements layers notes shaping")
class SetTake:
    """Say something of a take: who sang it, why it was chosen or set aside, that it comes treated, where in it the section begins."""

    take_id: int
    values: dict[str, Any]

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        unknown = next((name for name in self.values if name not in SET_BY_HAND), None)
        if unknown is not None:
            raise EditError(f"A take has no “{shown(unknown)}” to be set. Choose one of: {', '.join(SET_BY_HAND)}.")
        known = {f.name: getattr(take, f.name) for f in fields(Take)}
        changed = read_take({**known, "polish": adapter(Polish).dump_python(take.polish), **self.values})
        song = with_take(song, changed)
        return song if changed.zero_s == take.zero_s else relaid_takes(song, changed)

    def summary(self, song: Song) -> str:
        take = take_of(song, self.take_id)
        told = ", ".join(f"{name.replace('_', ' ')} {shown(value)}" for name, value in self.values.items())
        return f"{said_take(song, take).capitalize()}: {told}"[:280]


@edit("remove_take", "singing placements layers notes")
class RemoveTake:
    """Take a take out, and what the comp played of it; undo brings both back."""

    take_id: int

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        for section in song.sections:
            pieces = comp_of(song, section, take.voice)
            if any(p.take_id == take.id for p in pieces):
                song = write_comp(song, section, take.voice, [p for p in pieces if p.take_id != take.id])
        return replace(song, takes=tuple(t for t in song.takes if t.id != take.id))

    def summary(self, song: Song) -> str:
        return f"Took out {said_take(song, take_of(song, self.take_id))}"


@edit("comp", "placements layers notes shaping")
class CompPiece:
    """Let a take play from one tick of its section to another; seams are moved into a breath near them. Take 0 leaves a hole."""

    section_id: int
    part: str
    take_id: int
    low_ticks: int
    high_ticks: int
    seams: str = "breaths"

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        part = one_of(self.part, list(VOICE_PARTS), "voice")
        span = timeline(song).span_of(section.id)
        low, high = max(0, self.low_ticks), min(span.length_ticks, self.high_ticks)
        if low >= high:
            raise EditError(
                f"The stretch from tick {self.low_ticks} to {self.high_ticks} is empty in {section.name}, which has {span.length_ticks} ticks. "
                "Mark a longer one."
            )
        if not self.take_id:
            return write_comp(song, section, part, laid_over(comp_of(song, section, part), CompPart(low, high, 0)))
        take = take_of(song, self.take_id)
        if one_of(self.seams, ["breaths", "exact"], "way of placing seams") == "breaths":
            low = low if low == 0 else seam_near(take, span, low)
            high = high if high == span.length_ticks else seam_near(take, span, high)
        return _over(song, section, replace(take, voice=part), low, high)

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        if not self.take_id:
            return f"{section.name}, {self.part}: a stretch of the comp left silent"
        return f"{section.name}, {self.part}: {said_take(song, take_of(song, self.take_id))} taken for a stretch"


def _over(song: Song, section: Section, take: Take, low: int, high: int) -> Song:
    """The comp of a take's voice with the take over a stretch, as far as it was sung there."""
    span = timeline(song).span_of(section.id)
    sample = song.sample_by_content.get(take.played)
    if sample is None:
        raise EditError("The recording of this take is not known to the song. Bring it in again from Samples.")
    first, last = ticks_at(span, -take.zero_s), ticks_at(span, sample.seconds - take.zero_s)
    low, high = max(low, first, 0), min(high, last, span.length_ticks)
    if high - low < 2:
        raise EditError("The take was not sung there. Choose a stretch that it covers.")
    return write_comp(
        song, section, take.voice, laid_over(comp_of(song, section, take.voice), CompPart(low, high, take.id))
    )


def relaid_takes(song: Song, take: Take) -> Song:
    """Every comp that plays a take, written anew after the take changed."""
    for section in song.sections:
        for part in VOICE_PARTS:
            pieces = comp_of(song, section, part)
            if any(p.take_id == take.id for p in pieces):
                song = write_comp(song, section, part, pieces)
    return song


def write_comp(song: Song, section: Section, part: str, pieces: Sequence[CompPart]) -> Song:
    """The song with a voice's comp in a section made of pieces, in a layer of that voice; takes that are gone leave holes."""
    song, layer = _layer_for(song, section, part, bool(pieces))
    if layer is None:
        return song
    span, section = timeline(song).span_of(section.id), song.section_by_id[section.id]
    ids = Ids(song.next_id)
    mine = {p.pattern_id for p in section.placements if p.layer_id == layer.id}
    rest = cleared(section.placements, layer.id, 0, span.length_ticks, ids)
    song = replace(song.with_section(replace(section, placements=ordered(rest))), next_id=ids.next_id)
    used = {p.pattern_id for s in song.bodies for p in s.placements} | {i for g in song.grooves for _, i in g.parts}
    song = replace(song, patterns=tuple(e for e in song.patterns if e.id not in mine or e.id in used))
    rows, clips = _rows(song, span, [p for p in pieces if p.take_id in song.take_by_id])
    song, first = _without_unused(song, layer, len(clips))
    layer = song.layer_by_id[layer.id]
    if not rows:
        return song if layer.clips else RemoveLayer(layer.id).apply(song)  # a voice that nothing plays has no layer
    rows = [
        [start, duration, kind, first + number, octave, velocity]
        for start, duration, kind, number, octave, velocity in rows
    ]
    ids = Ids(song.next_id)
    pattern = NamedPattern(ids(), f"{section.name}, {part}"[:80], layer.family, Pattern(span.length_ticks, rows))
    placed = Placement(ids(), layer.id, pattern.id, 0, span.length_ticks)
    section = song.section_by_id[section.id]
    song = song.with_section(replace(section, placements=ordered([*section.placements, placed])))
    song = replace(song, patterns=(*song.patterns, pattern), next_id=ids.next_id)
    fresh = not layer.clips
    song = song.with_layer(replace(layer, clips=(*layer.clips, *clips), pattern_id=pattern.id))
    if fresh:
        song = _in_the_mix(song, song.section_by_id[section.id], layer.id, part)
    return song if mine else guide_silent(song, song.section_by_id[section.id], part)


def _rows(song: Song, span: Span, pieces: Sequence[CompPart]) -> tuple[list[list[int]], list[Clip]]:
    """Pattern rows and clips of pieces: where two meet, the earlier one sounds on while the later one fades in."""
    rows, clips = [], []
    for i, piece in enumerate(pieces):
        take = song.take_by_id[piece.take_id]
        seconds = song.sample_by_content[take.played].seconds
        start = take.zero_s + span.seconds_at(piece.low)
        end = take.zero_s + span.seconds_at(piece.high)
        meets = i + 1 < len(pieces) and pieces[i + 1].low - piece.high < 2
        met = i > 0 and piece.low - pieces[i - 1].high < 2
        tail = FADE_MS / 1000.0 if meets else 0.0
        start, end = max(0.0, start), min(seconds, end + tail)
        if end - start < 2 * FADE_MS / 1000.0:
            continue
        length = max(1, ticks_at(span, end - take.zero_s) - piece.low)
        clips.append(
            Clip(
                take.played, round(start, 6), round(end, 6), length / QUARTER_TICKS, "alone", -float(span.section.shift_semitones),
                fade_in_ms=FADE_MS if met else 3.0, fade_out_ms=FADE_MS if meets else 3.0, formants=True,
            )
        )  # fmt: skip
        rows.append([piece.low, length, CLIP, len(clips) - 1, 0, VELOCITY])
    return rows, clips


def _without_unused(song: Song, layer: Layer, coming: int) -> tuple[Song, int]:
    """The layer's clips without those that nothing plays, its patterns renumbered; and the number of the first one that is added."""
    own = {p.pattern_id for s in song.bodies for p in s.placements if p.layer_id == layer.id}
    played = sorted({r[3] % 256 for i in own for r in song.pattern_by_id[i].pattern.to_list() if r[2] == CLIP})
    kept = [n for n in played if n < len(layer.clips)]
    if len(kept) + coming > MAX_CLIPS:
        raise EditError(
            f"{layer.name} would be sewn from {len(kept) + coming} pieces; at most {MAX_CLIPS} fit. Comp by phrases instead of words."
        )
    to = {old: new for new, old in enumerate(kept)}
    song = song.with_layer(replace(layer, clips=tuple(layer.clips[n] for n in kept)))
    if all(a == b for a, b in to.items()):
        return song, len(kept)
    changed = {}
    for i in own:
        pattern = song.pattern_by_id[i].pattern
        rows = [[*r[:3], to[r[3] % 256] + r[3] // 256 * 256, *r[4:]] if r[2] == CLIP else r for r in pattern.to_list()]
        changed[i] = pattern.with_rows(rows)
    patterns = tuple(replace(e, pattern=changed[e.id]) if e.id in changed else e for e in song.patterns)
    return replace(song, patterns=patterns), len(kept)


def _layer_for(song: Song, section: Section, part: str, needed: bool) -> tuple[Song, Layer | None]:
    """The layer of a voice's takes, made where it is needed and not there."""
    found = sung_layer(song, part)
    if found is not None or not needed:
        return song, found
    if len(song.layers) >= MAX_LAYERS:
        raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
    told = VOICE_PARTS[part]
    name = free_layer_name(song, ("Voice" if part == LEAD else f"Voice, {part}") if told.sung else f"Recorded {part}")
    job = JOBS.get(part, "width" if told.sung else USUAL_JOB[told.family])
    layer = Layer(
        song.next_id, name, PART, told.family, job, seed_of(name, {x.seed for x in song.layers}), pan=told.pan, voice=part
    )  # fmt: skip
    return replace(song, layers=in_family_order(song.layers, layer), next_id=song.next_id + 1), layer


def _in_the_mix(song: Song, section: Section, layer_id: int, part: str) -> Song:
    """A new voice as loud as a lead is meant to be, a backing under it by what its place in the stack asks."""
    song = levelled(song, section, layer_id)
    layer = song.layer_by_id[layer_id]
    return song.with_layer(
        replace(layer, level_db=max(MIN_LEVEL_DB, round(layer.level_db - VOICE_PARTS[part].below_db, 1)))
    )


def guide_silent(song: Song, section: Section, part: str) -> Song:
    """The written voice does not sing along where a real one does: turned down there, its notes kept for comparison."""
    guide = guide_of(song, section, part)
    if guide is None or guide.family != "voices":
        return song
    return Treat(section.id, guide.id, "level_db", MIN_LEVEL_DB).apply(song)


@edit("use_as_double", "singing placements layers notes shaping")
class UseAsDouble:
    """Let a take that was not chosen sing another voice of the stack, over all that it covers."""

    take_id: int
    part: str = "double left"

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        part = one_of(self.part, list(VOICE_PARTS), "voice")
        section = section_of(song, take.section_id)
        old = comp_of(song, section, take.voice)
        if part != take.voice and any(p.take_id == take.id for p in old):
            raise EditError(
                f"{said_take(song, take).capitalize()} sings in the comp of the {take.voice}: beside itself it would only be louder. "
                "Choose a take that is not in the comp."
            )
        song = with_take(song, replace(take, voice=part, aside=False))
        return _over(song, section, replace(take, voice=part), take.low_ticks, take.high_ticks)

    def summary(self, song: Song) -> str:
        return f"{said_take(song, take_of(song, self.take_id)).capitalize()} sings {self.part}"


@edit("polish_take", "singing placements layers notes shaping")
class PolishTake:
    """Play a take tuned, brought into time, its sibilance and breaths turned down, its level ridden; the take itself is kept as it is."""

    take_id: int
    polish: dict[str, Any]
    sample: dict[str, Any]

    def apply(self, song: Song) -> Song:
        take = take_of(song, self.take_id)
        if take.sent_by:
            raise EditError(
                f"{said_take(song, take).capitalize()} was sent by {take.sent_by} as it is to stay. Take that note away to polish it."
            )
        try:
            polish = adapter(Polish).validate_python(self.polish)
        except ValidationError as error:
            raise EditError(_wrong(error, "polish")) from error
        if polish == Polish():
            return _played_as(song, replace(take, polish=polish, polished=""))
        sample: Sample = sample_from(self.sample)
        song = with_sample(song, sample, frozenset({take.content}))
        return _played_as(song, replace(take, polish=polish, polished=sample.content))

    def summary(self, song: Song) -> str:
        return f"{said_take(song, take_of(song, self.take_id)).capitalize()} polished"


def _played_as(song: Song, take: Take) -> Song:
    return relaid_takes(with_take(song, take), take)
