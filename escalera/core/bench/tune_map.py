"""A map of the tune: which layer carries it where, whole, in pieces, foreshadowed, handed over."""

from __future__ import annotations

from escalera.core.caching import Results
from escalera.core.document.song import Layer, NamedPattern, Song
from escalera.core.lines.kinship import NOTHING, PIECE, WHOLE, Kin, Notes, kinship, steps_of
from escalera.core.reading.events import heard_in, sounding_layers
from escalera.core.reading.phrase_notes import line_in
from escalera.core.reading.timeline import Span, timeline
from escalera.lazy_dataclasses import dataclass

CARRIES = ("leads", "voices", "chords", "low end")
FORESHADOWED, HANDED = "foreshadowed", "handed over"


@dataclass(frozen=True, slots=True)
class Carried:
    """The tune in one phrase of a layer: how much of it, and what that makes of it."""

    section_id: int
    phrase: int
    kin: Kin
    what: str  # whole, piece, foreshadowed, handed over or nothing


@dataclass(frozen=True, slots=True)
class TuneMap:
    """`source` is (section, layer, phrase) of the tune; rows hold a cell for every phrase of the song, in order."""

    source: tuple[int, int, int] | None
    rows: tuple[tuple[Layer, tuple[Carried, ...]], ...]
    said: tuple[str, ...]


def tune_source(song: Song) -> tuple[int, int, int] | None:
    """The line that is the tune: the one chosen, else a voice's or lead's in the section that is wanted highest."""
    section, layer, phrase = song.tune
    if (
        section in song.section_by_id
        and layer in song.layer_by_id
        and 0 <= phrase < len(song.section_by_id[section].phrases)
    ):
        return song.tune
    for span in sorted(timeline(song).spans, key=lambda s: -s.section.target.mean):
        sounding = [x for x in sounding_layers(song, span.section) if x.family in ("voices", "leads")]
        for candidate in sorted(sounding, key=lambda x: (x.family != "voices", x.job != "hook")):
            for index in range(len(span.section.phrases)):
                if len(_steps(song, span, index, candidate)) >= 4:
                    return span.section.id, candidate.id, index
    return None


def tune_map(song: Song) -> TuneMap:
    """Where the tune is, over the whole song. Layers that never carry any of it are left out."""
    if "tune map" not in song.memo:
        song.memo["tune map"] = _tune_map(song)
    return song.memo["tune map"]


def _tune_map(song: Song) -> TuneMap:
    source = tune_source(song)
    if source is None:
        return TuneMap(None, (), ("No line yet that could be a tune. Write one on a lead or a voice.",))
    line = timeline(song)
    tune = _steps(song, line.span_of(source[0]), source[2], song.layer_by_id[source[1]])
    if len(tune) < 3:
        return TuneMap(source, (), ("The chosen line has too few notes to be followed. Choose another one.",))
    found: dict[int, list[Kin]] = {}
    places = [(span, phrase) for span in line.spans for phrase in range(len(span.section.phrases))]
    for layer in song.layers:
        if layer.family in CARRIES and not layer.sound.is_drum and not layer.muted:
            kin = [_kin(song, span, phrase, layer, tune) for span, phrase in places]
            if any(k.state for k in kin):
                found[layer.id] = kin
    whats = _whats(found, len(places))
    rows = tuple(
        (song.layer_by_id[i], tuple(Carried(s.section.id, p, k, w) for (s, p), k, w in zip(places, kin, whats[i])))
        for i, kin in found.items()
    )
    return TuneMap(source, rows, _told(song, rows, places))


def _kin(song: Song, span: Span, phrase: int, layer: Layer, tune: Notes) -> Kin:
    if all(p.layer_id != layer.id for p in span.section.placements):
        return NOTHING
    return kinship(tune, _steps(song, span, phrase, layer))


def _steps(song: Song, span: Span, phrase: int, layer: Layer) -> Notes:
    """A line as steps of the key; kept with what the section plays, whatever its levels."""
    memo, key = _section_steps(song, span), (phrase, layer.id)
    if key not in memo:
        memo[key] = _read_steps(song, span, phrase, layer)
    return memo[key]


def _section_steps(song: Song, span: Span) -> dict[tuple[int, int], Notes]:
    key = ("steps", span.section.id)
    if key not in song.memo:
        song.memo[key] = _kept.get_or_make((song.key, heard_in(song, span)), dict)
    return song.memo[key]


_kept: Results[dict[tuple[int, int], Notes]] = Results(512)


def _read_steps(song: Song, span: Span, phrase: int, layer: Layer) -> Notes:
    shift = span.section.shift_semitones
    return steps_of([(n.tick, n.pitch - shift) for n in line_in(song, span, phrase, layer).notes], song.key)


def _whats(found: dict[int, list[Kin]], count: int) -> dict[int, list[str]]:
    """What every place makes of the tune: pieces before it was first whole foreshadow it, a new carrier is handed it."""
    whats: dict[int, list[str]] = {i: [""] * count for i in found}
    carriers: set[int] = set()
    for place in range(count):
        here = {i for i, kin in found.items() if kin[place].state == WHOLE}
        for i, kin in found.items():
            if kin[place].state == PIECE:
                whats[i][place] = PIECE if carriers else FORESHADOWED
        for i in here:
            whats[i][place] = HANDED if carriers and i not in carriers and not here & carriers else WHOLE
        carriers = here or carriers
    return whats


def _told(song: Song, rows, places) -> tuple[str, ...]:  # type: ignore[no-untyped-def]
    cells = [(layer, cell, i) for layer, row in rows for i, cell in enumerate(row) if cell.what]
    names = {s.id: s.name for s in song.sections}
    told = []
    for what, sentence in (
        (FORESHADOWED, "foreshadowed in {section} by {layer}"),
        (WHOLE, "first whole in {section}, on {layer}"),
        (HANDED, "handed over in {section} to {layer}"),
    ):
        first = min((c for c in cells if c[1].what == what), key=lambda c: c[2], default=None)
        if first:
            told.append(sentence.format(section=names[first[1].section_id], layer=first[0].name))
    whole = {c[2] for c in cells if c[1].what in (WHOLE, HANDED)}
    some = {c[2] for c in cells} - whole
    told.append(f"whole in {len(whole)} and in pieces in {len(some)} of {len(places)} phrases")
    return tuple(told)


def without_place(song: Song) -> list[NamedPattern]:
    """Ideas that were kept and play nowhere: patterns no section and no groove uses."""
    in_grooves = {pattern_id for groove in song.grooves for _, pattern_id in groove.parts}
    placed = {p.pattern_id for body in song.bodies for p in body.placements}
    return [p for p in song.patterns if p.id not in in_grooves and p.id not in placed and len(p.pattern)]
