"""Whole validation of a song that comes from outside. What this lets through, every edit and render can take."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from escalera.core.document.lanes import SENDS
from escalera.core.document.limits import (
    MAX_BARS,
    MAX_NOTES,
    MAX_TEMPO_BPM,
    MIN_TEMPO_BPM,
)
from escalera.core.document.schools import SWITCHES
from escalera.core.document.song import Layer, Section, Song
from escalera.core.palette.sounds import BY_KEY
from escalera.core.reading.brief import read_wish
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.validation.groove_rules import grooves
from escalera.core.validation.harmony_rules import harmony
from escalera.core.validation.recording_rules import recordings
from escalera.core.validation.shaping_rules import chains, shaping
from escalera.core.validation.singing_rules import singing
from escalera.errors import EditError, FormatError, shown


def validate(song: Song) -> Song:
    """The song itself when all holds together. Raises FormatError that says what does not."""
    _song(song)
    ids = [x.id for x in song.layers] + [s.id for s in song.sections] + [p.id for p in song.patterns]
    ids += [p.id for s in song.sections for p in s.placements] + [g.id for g in song.grooves]
    ids += [d.id for chain in chains(song) for d in chain] + [p.id for x in song.layers for p in x.stack]
    ids += [p.id for s in song.sections for p in s.parked] + [d.id for s in song.sections for d in s.devices]
    ids += [t.id for t in song.takes] + [r.id for r in song.feedback] + [p.id for p in song.people]
    _need(len(ids) == len(set(ids)), "two parts of the song have the same id")
    _need(all(0 < i < song.next_id for i in ids), "an id is not below next_id")
    for layer in song.layers:
        _layer(song, layer)
    for section in song.bodies:
        _section(song, section)
    _parked(song)
    for wish, text in song.brief:
        _wish(wish, text)
    names = [p.name.casefold() for p in song.people]
    _need(len(names) == len(set(names)), "two of its people have one name")
    whats = [d.what.casefold() for d in song.work.due]
    _need(len(whats) == len(set(whats)), "two of its due dates have one name")
    shaping(song, _need)
    harmony(song, _need)
    grooves(song, _need)
    recordings(song, _need)
    singing(song, _need)
    return song


def _parked(song: Song) -> None:
    inside = {p.id for s in song.sections for each in s.parked for p in each.body.placements}
    _need(all(0 < i < song.next_id for i in inside), "an id of a parked body is not below next_id")
    _need(not any(p.body.parked for s in song.sections for p in s.parked), "a parked body has bodies of its own")


def _need(holds: bool, sentence: str) -> None:
    if not holds:
        raise FormatError(f"The project cannot be used: {sentence}. Nothing was changed.")


def _wish(wish: str, text: str) -> None:
    try:
        read_wish(wish, text)
    except EditError as error:
        raise FormatError(f"The brief in the project cannot be used: {error} Nothing was changed.") from error


def _song(song: Song) -> None:
    _need(all(k in SWITCHES and v in SWITCHES[k].options for k, v in song.switches), "a switch is not known")
    _need(bool(song.sections), "it has no sections, and a song has at least one")
    _need(song.bars <= MAX_BARS, f"it has {song.bars} bars, at most {MAX_BARS} fit")
    _need(song.note_count <= MAX_NOTES, f"it has {song.note_count:,} notes, at most {MAX_NOTES:,} fit")
    _need(0 <= song.lead_bars <= song.sections[0].bars, "it has more bars before bar 1 than its first section")


def _layer(song: Song, layer: Layer) -> None:
    name = f"layer “{shown(layer.name)}”"
    _need(
        layer.sound_key in BY_KEY, f"{name} asks for the sound “{shown(layer.sound_key)}”, which is not in the palette"
    )
    _need(layer.muted or not layer.aside, f"{name} is set aside but not muted")
    for key, level_db in layer.sends:
        _need(key in SENDS, f"{name} is sent into the shared space “{shown(key)}”, which is not known")
        _need(
            SENDS[key].low <= level_db <= SENDS[key].high,
            f"{name}: a send of {level_db:g} dB lies outside {SENDS[key].low:g} to {SENDS[key].high:g} dB",
        )


def _section(song: Song, section: Section) -> None:
    name = f"section “{shown(section.name)}”"
    _need(
        sum(section.phrases) == section.bars and min(section.phrases) > 0,
        f"the phrases of {name} do not add up to its {section.bars} bars",
    )
    _need(all(0 <= bar < section.bars for bar, _ in section.metre_changes), f"a metre change of {name} lies outside it")
    end = section_bar_ticks(section, song.metre)[-1]
    points = section.tempo_changes
    _need(
        all(0 <= p.tick <= end and MIN_TEMPO_BPM <= p.bpm <= MAX_TEMPO_BPM for p in points),
        f"a tempo change of {name} is out of range",
    )
    ticks = [p.tick for p in points]
    _need(ticks == sorted(set(ticks)), f"the tempo changes of {name} are not in order")
    _placements(song, section, name, end)


def _placements(song: Song, section: Section, name: str, end: int) -> None:
    last: dict[int, int] = {}
    by_start: Callable[[Any], Any] = lambda p: (p.layer_id, p.start_ticks)  # noqa: E731
    for p in sorted(section.placements, key=by_start):
        _need(p.layer_id in song.layer_by_id, f"{name} places a layer that does not exist")
        _need(p.pattern_id in song.pattern_by_id, f"{name} places a pattern that does not exist")
        _need(0 <= p.start_ticks < p.end_ticks <= end, f"a placement of {name} reaches outside it")
        _need(p.start_ticks >= last.get(p.layer_id, 0), f"two placements of one layer overlap in {name}")
        cutoffs = (p.variation.lowpass_start_hz, p.variation.lowpass_end_hz)
        _need((None in cutoffs) == (cutoffs == (None, None)), f"a filter in {name} has only one end")
        last[p.layer_id] = p.end_ticks
