"""Edits of the stack: which voices are wanted, voices that are simulated until somebody sings them, the singer's range."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from escalera.core.document.limits import MAX_LAYERS, MIN_LEVEL_DB
from escalera.core.document.song import Ids, Layer, Section, Song
from escalera.core.edits.edit import Fields, edit, layer_of, one_of, section_of, within
from escalera.core.edits.layer_edits import AddLayer, RemoveLayer
from escalera.core.edits.note_edits import pitched
from escalera.core.palette.voice_parts import FREE, LEAD, VOICE_PARTS
from escalera.core.reading.phrase_notes import encoder, put_rows
from escalera.core.reading.placements import cleared, joined
from escalera.core.reading.timeline import timeline
from escalera.core.theory.pitch import fifths_to_class, name_to_fifths
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import MelodyNote, guide_of
from escalera.errors import EditError, shown

VELOCITY = 88
SHARPS, FLATS = ("#", "♯"), ("b", "♭")
NOTE = re.compile(r"([A-Ga-g])([#♯b♭]?)(-?\d)")
# a second melody stands behind the first: narrow, far, echoed
FAR_ANSWER = {"highpass_hz": 450.0, "lowpass_hz": 2600.0, "sends": (("echo", -9.0), ("hall", -8.0))}


@edit("want_voices", "singing")
class WantVoices:
    """Say which voices beside the lead a section is to have."""

    section_id: int
    parts: list[Any]

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        parts = {one_of(str(p), list(VOICE_PARTS), "voice") for p in self.parts} - {LEAD}
        return song.with_section(replace(section, wanted=tuple(p for p in VOICE_PARTS if p in parts)))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: wanted beside the lead: {', '.join(map(str, self.parts)) or 'nobody'}"[
            :280
        ]


@edit("want_voice", "singing")
class WantVoice:
    """Put a voice on a section's list of wanted ones, or take it off."""

    section_id: int
    part: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        part = one_of(self.part, list(VOICE_PARTS), "voice")
        parts = [p for p in section.wanted if p != part] if part in section.wanted else [*section.wanted, part]
        return WantVoices(section.id, parts).apply(song)

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{section.name}: {self.part} {'not wanted any more' if self.part in section.wanted else 'wanted'}"


@edit("simulate_voice", "layers notes placements singing")
class SimulateVoice:
    """Let a voice of the stack be sung by the program until somebody sings it, worked out from the lead inside key and chord."""

    section_id: int
    part: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        part = one_of(self.part, list(VOICE_PARTS), "voice")
        if part == LEAD:
            raise EditError("The lead is the guide itself. Write it on the bench, hum it, or sing it.")
        notes = voice_line(song, timeline(song).span_of(section.id), part).notes
        if not notes:
            raise EditError(
                f"There is nothing that {part} could be worked out from in {section.name}. Write a guide for the lead first"
                + (
                    "."
                    if VOICE_PARTS[part].sings != FREE or part == "answer"
                    else f"; {part} are sung or played, not worked out."
                )
            )
        song, layer = _layer_of(song, part)
        song = written_voice(song, song.section_by_id[section.id], layer.id, notes, part)
        section = song.section_by_id[section.id]
        wanted = tuple(p for p in VOICE_PARTS if p in section.wanted or p == part)
        return song.with_section(replace(section, wanted=wanted))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        found = voice_line(song, timeline(song).span_of(section.id), self.part)
        bent = len(found.clashes)
        return f"{section.name}: {self.part} simulated" + (
            f"; {bent} of {len(found.notes)} notes bent to their chords" if bent else ""
        )


def _layer_of(song: Song, part: str) -> tuple[Song, Layer]:
    """The layer that simulates a voice, made beside its guide where it is not there."""
    found = guide_of(song, None, part)
    if found is not None:
        return song, found
    if len(song.layers) >= MAX_LAYERS:
        raise EditError(f"The song has {MAX_LAYERS} layers, and no more fit. Remove one that plays nowhere.")
    told, lead = VOICE_PARTS[part], guide_of(song)
    before = {x.id for x in song.layers}
    song = AddLayer(told.sound, f"Simulated {part}", "voices", "answer" if part == "answer" else "width").apply(song)
    made = next(x for x in song.layers if x.id not in before)
    level = (lead.level_db if lead else made.level_db) - told.below_db
    more: dict[str, Any] = FAR_ANSWER if part == "answer" else {}
    made = replace(made, voice=part, pan=told.pan, level_db=max(MIN_LEVEL_DB, level), stand_in=True, octave=0, **more)
    return song.with_layer(made), made


def written_voice(song: Song, section: Section, layer_id: int, notes: Sequence[MelodyNote], name: str) -> Song:
    """The song with a layer singing notes in a section, phrase by phrase, in place of what it sang there."""
    layer = pitched(song, layer_id)
    spans = timeline(song).span_of(section.id).phrase_ticks()
    for phrase, (low, high) in enumerate(spans):
        span = timeline(song).span_of(section.id)
        write = encoder(song, span, phrase, layer)
        rows = [
            (n.start - low, max(30, n.end - n.start), *write(n.start - low, n.pitch, "scale"), VELOCITY)
            for n in notes
            if low <= n.start < high
        ]
        song = put_rows(song, span, phrase, layer, rows, f"{section.name}, {name}"[-78:])
    return song


@edit("drop_voice", "layers placements singing shaping options")
class DropVoice:
    """Take a simulated voice out of a section, or out of the song where it sings nowhere else."""

    section_id: int
    part: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        layer = guide_of(song, section, one_of(self.part, list(VOICE_PARTS), "voice"))
        if layer is None or self.part == LEAD:
            raise EditError(f"Nobody simulates {self.part} here. Choose a voice that is.")
        ids = Ids(song.next_id)
        rest = cleared(section.placements, layer.id, 0, timeline(song).span_of(section.id).length_ticks, ids)
        song = replace(song.with_section(replace(section, placements=joined(rest))), next_id=ids.next_id)
        if any(p.layer_id == layer.id for s in song.bodies for p in s.placements):
            return song
        return RemoveLayer(layer.id).apply(song)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: {self.part} not simulated any more"


@edit("name_guide", "layers")
class NameGuide:
    """Say which layer’s notes the lead is to sing; 0 lets it be found."""

    layer_id: int

    def apply(self, song: Song) -> Song:
        layer = pitched(song, self.layer_id) if self.layer_id else None
        if layer is not None and layer.clips:
            raise EditError(f"{layer.name} plays recordings. A guide has written notes; choose a layer that has.")
        cleared_guides = tuple(replace(x, voice="") if x.voice == LEAD and not x.clips else x for x in song.layers)
        song = replace(song, layers=cleared_guides)
        return song.with_layer(replace(song.layer_by_id[layer.id], voice=LEAD)) if layer else song

    def summary(self, song: Song) -> str:
        return f"The lead sings {layer_of(song, self.layer_id).name}" if self.layer_id else "The guide is found again"


def _range_as_written(fields: Fields, song: Song) -> Fields:
    """Notes as people write them (“B♭3”, “a3”) or as MIDI numbers; an empty field lets the range be read."""
    return {**fields, **{name: _note(str(fields.get(name, ""))) for name in ("low", "high")}}


def _note(text: str) -> int:
    text = text.strip()
    if text.isdecimal() and len(text) < 4 or not text:
        return int(text or 0)
    found = NOTE.fullmatch(text)
    if found is None:
        raise EditError(
            f"“{shown(text)}” is not a note. Write a letter and an octave, for example B♭3, or a MIDI number."
        )
    natural = fifths_to_class(name_to_fifths(found[1].upper()))
    return natural + 12 * (int(found[3]) + 1) + (found[2] in SHARPS) - (found[2] in FLATS)


@edit("set_range", "singing", reads=_range_as_written)
class SetRange:
    """Say from which to which note the singer is comfortable; zeros let it be read from takes."""

    low: int
    high: int

    def apply(self, song: Song) -> Song:
        low, high = (int(within(v, 0, 127, "A note")) for v in (self.low, self.high))
        if (low or high) and high - low < 5:
            raise EditError(
                f"A range from note {low} to note {high} is too small to sing in. Choose at least five semitones."
            )
        return replace(song, singer_low=low, singer_high=high)

    def summary(self, song: Song) -> str:
        key = song.key
        return (
            f"The singer reaches {key.pitch_name(self.low)} to {key.pitch_name(self.high)}"
            if self.low
            else "The singer’s range is read from takes"
        )
