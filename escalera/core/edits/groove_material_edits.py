"""Edits that make more of a beat: a drum busier or sparser, rolls, two grooves joined, a family for all parts, toms tuned."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

from escalera.core.document.devices import Curve
from escalera.core.document.lanes import layer_value
from escalera.core.document.song import Groove, Layer, Section, Song
from escalera.core.edits.beat_edits import adopted, beat_of_phrase
from escalera.core.edits.curve_edits import length_ticks, with_curve
from escalera.core.edits.edit import edit, one_of, section_of, within
from escalera.core.edits.groove_edits import (
    PlaceGroove,
    groove_of,
    made_longer,
    new_groove,
    placed,
    variant_name,
    write_groove,
)
from escalera.core.edits.groove_reach import has_drums
from escalera.core.edits.sound_edits import SetValue, not_printed
from escalera.core.reading.groove_reading import drum_layers, groove_beat
from escalera.core.reading.placements import span_ticks
from escalera.core.reading.timeline import section_metres
from escalera.core.rhythm.beat import MAX_BARS, RANK, Hit, beat, tiled
from escalera.core.rhythm.density import denser
from escalera.core.rhythm.groove_family import BY_ROLE, FAMILY, history, related
from escalera.core.theory.pitch import pitch_to_hz
from escalera.core.time.metre import Metre
from escalera.errors import EditError

ROLLS = {"1/16": 240, "1/16 triplet": 160, "1/32": 120, "1/32 triplet": 80, "1/64": 60}
MOST_STEPS = 8
TOMS = ("low tom", "mid tom", "high tom")
PITCHED = ("hz", "spread", "centre_hz")  # the parameter of a drum that is its pitch, whichever it has
LONGEST_FAMILY_BARS = 8


@edit("drum_density", "layers notes placements options")
class DrumDensity:
    """Make one drum of a phrase's beat busier by so many steps, or sparser (below 0), as a player would; wherever that beat plays."""

    section_id: int
    phrase: int
    drum: str
    steps: int = 1

    def apply(self, song: Song) -> Song:
        one_of(self.drum, list(RANK), "drum")
        within(abs(self.steps), 1, MOST_STEPS, "A change of", "steps")
        here = beat_of_phrase(song, self.section_id, self.phrase)
        if not here.beat.hits:
            raise EditError("There is no beat in this phrase yet. Say, tap or take one first.")
        song, groove_id = adopted(song, here)
        groove = groove_of(song, groove_id)
        before = groove_beat(song, groove, here.metre)
        after = denser(before, self.drum, self.steps)
        if after == before:
            more = "no place of the bar is free for it" if self.steps > 0 else "it does not play"
            raise EditError(f"The {self.drum} cannot be {'busier' if self.steps > 0 else 'sparser'}: {more}.")
        if not after.hits:
            raise EditError(f"The beat would be empty without the {self.drum}. Lift it from the wall instead.")
        return write_groove(song, groove, after)[0]

    def summary(self, song: Song) -> str:
        how = f"{'busier' if self.steps > 0 else 'sparser'} by {abs(self.steps)}"
        return f"{section_of(song, self.section_id).name}, phrase {self.phrase + 1}: {self.drum} {how}"


@edit("roll_hits", "layers notes placements options shaping")
class RollHits:
    """A roll on one drum from a tick of a phrase on: its note value, rising or falling in loudness, and gliding in pitch by semitones.

    The beat is written out to the length of its phrase, so that the roll comes once.
    """

    section_id: int
    phrase: int
    drum: str
    tick: int
    beats: float = 1.0
    value: str = "1/32"
    from_velocity: int = 50
    to_velocity: int = 100
    glide_semitones: float = 0.0

    def apply(self, song: Song) -> Song:
        one_of(self.drum, list(RANK), "drum")
        step = ROLLS[one_of(self.value, list(ROLLS), "note value")]
        for name, velocity in (("first", self.from_velocity), ("last", self.to_velocity)):
            within(velocity, 1, 127, f"A {name} velocity of")
        within(self.glide_semitones, -24, 24, "A glide of", "semitones")
        here = beat_of_phrase(song, self.section_id, self.phrase)
        low, high = here.span.phrase_ticks()[here.phrase]
        length = round(within(self.beats, 0.25, 16, "A roll of", "beats") * here.metre.beat_ticks)
        if not 0 <= self.tick < high - low:
            raise EditError(f"A roll at tick {self.tick} lies outside the phrase, which has {high - low} ticks.")
        end = min(high - low, self.tick + length)
        whole = min(high - low, MAX_BARS * here.metre.bar_ticks)
        played = tiled(here.beat, whole) if here.beat.hits else beat(whole, here.metre, ())
        ticks = list(range(self.tick, min(end, whole), step))
        if not ticks:
            raise EditError(f"A beat has {MAX_BARS} bars at most, and the roll would begin after them. Split the phrase first.")  # fmt: skip
        rising = (self.to_velocity - self.from_velocity) / max(1, len(ticks) - 1)
        rolled = [Hit(t, self.drum, round(self.from_velocity + rising * i)) for i, t in enumerate(ticks)]
        rest = [h for h in played.hits if not (h.drum == self.drum and self.tick <= h.tick < end)]
        after = played.with_hits((*rest, *rolled))
        root = song.groove_by_id.get(here.groove.variant_of, here.groove) if here.groove else None
        name = variant_name(song, root) if root else f"Beat of {here.section.name}"
        done = made_longer(here.groove, f"{self.drum} roll in {self.value}")
        song, groove = new_groove(song, name, after, variant_of=root.id if root else 0, made=done)
        song = placed(song, song.section_by_id[self.section_id], groove, low, high)
        return self._glided(song, low + self.tick, low + end) if self.glide_semitones else song

    def _glided(self, song: Song, start: int, end: int) -> Song:
        """The drum's pitch along a curve while it rolls, as it was before and after."""
        section, layer = section_of(song, self.section_id), drum_layers(song)[self.drum]
        key = next((k for k in PITCHED if k in layer.sound.parameter_by_key), None)
        if key is None:
            raise EditError(f"{layer.name} has no pitch that could glide. Roll it without.")
        not_printed(layer)
        lane, knob = f"layer.{layer.id}.sound.{key}", layer.sound.parameter_by_key[key]
        if any(c.lane == lane for c in section.curves):
            raise EditError(f"The pitch of {layer.name} moves in {section.name} already. Take that curve away first.")
        now = layer_value(layer, f"sound.{key}")
        over = min(max(now * 2.0 ** (self.glide_semitones / 12.0), knob.low), knob.high)
        points = {0: now, start: now, end - 1: over, end: now}
        inside = [(t, v, "line") for t, v in sorted(points.items()) if t <= length_ticks(song, section)]
        return song.with_section(with_curve(section, lane, Curve(lane, tuple(inside))))

    def summary(self, song: Song) -> str:
        where = f"{section_of(song, self.section_id).name}, phrase {self.phrase + 1}"
        return f"{where}: {self.drum} roll in {self.value}, {self.beats:g} beats"


@edit("join_grooves", "layers notes placements options")
class JoinGrooves:
    """Two grooves, one after the other, as one that is as long as both; it plays in the named place, or is only kept where that is
    too short for it."""

    first_id: int
    second_id: int
    section_id: int | None = None
    phrase: int | None = None

    def apply(self, song: Song) -> Song:
        first, second = groove_of(song, self.first_id), groove_of(song, self.second_id)
        metre = self._metre(song)
        a, b = groove_beat(song, first, metre), groove_beat(song, second, metre)
        length = a.length_ticks + b.length_ticks
        if length > MAX_BARS * metre.bar_ticks:
            raise EditError(f"{first.name} and {second.name} have {length / metre.bar_ticks:g} bars together; at most {MAX_BARS} fit.")  # fmt: skip
        later = [replace(h, tick=h.tick + a.length_ticks) for h in b.hits]
        played = beat(length, metre, (*a.hits, *later))
        made = f"{first.name}, then {second.name}"
        song, groove = new_groove(song, f"{first.name} + {second.name}"[:78], played, first.feel, made=made)
        if self.section_id is None or not self._has_room(song, self.section_id, length):
            return song
        return PlaceGroove(groove.id, self.section_id, self.phrase).apply(song)

    def _has_room(self, song: Song, section_id: int, length_ticks: int) -> bool:
        low, high = span_ticks(song, section_of(song, section_id), self.phrase, None, None)
        return length_ticks <= high - low

    def _metre(self, song: Song) -> Metre:
        if self.section_id is None:
            return song.metre
        return section_metres(section_of(song, self.section_id), song.metre)[0]

    def summary(self, song: Song) -> str:
        first, second = (groove_of(song, i) for i in (self.first_id, self.second_id))
        length = sum(groove_beat(song, g, self._metre(song)).length_ticks for g in (first, second))
        short = self.section_id is not None and not self._has_room(song, self.section_id, length)
        return f"Grooves {first.name} and {second.name} joined" + (" and kept; this place is too short for it" if short else "")  # fmt: skip


@edit("groove_family", "layers notes placements options")
class GrooveFamily:
    """A family from the beat of a phrase: what a drummer would play of it in the other parts, kept together; played there where `everywhere`.

    Members are made for the roles that the song has. Sections without drums stay without.
    """

    section_id: int
    phrase: int
    everywhere: bool = False

    def apply(self, song: Song) -> Song:
        here = beat_of_phrase(song, self.section_id, self.phrase)
        if not here.beat.hits:
            raise EditError("There is no beat in this phrase yet. Say, tap or take one first.")
        song, groove_id = adopted(song, here)
        root = groove_of(song, groove_id)
        before = song
        for key, sections in self._wanted(song, here.metre):
            song = self._member(song, root, key, sections, here.metre)
        if song == before:
            raise EditError("No other part of the song would play this beat otherwise. Give sections roles first, or vary it by hand.")  # fmt: skip
        return song

    def _wanted(self, song: Song, metre: Metre) -> Iterator[tuple[str, list[Section]]]:
        own = BY_ROLE.get(section_of(song, self.section_id).role, "plain")
        for key in FAMILY:
            mine = [
                s for s in song.sections if BY_ROLE.get(s.role) == key and section_metres(s, song.metre)[0] == metre
            ]
            if mine and key != own:
                yield key, mine

    def _member(self, song: Song, root: Groove, key: str, sections: list[Section], metre: Metre) -> Song:
        longest = min(min(s.phrases[0] for s in sections), LONGEST_FAMILY_BARS)
        played = groove_beat(song, root, metre)
        member = related(played, key, longest)
        if member == played:
            made = root
        else:
            name = f"{root.name}, {sections[0].role}"[:78]
            song, made = new_groove(song, name, member, root.feel, root.variant_of or root.id, made=history(key))
        for section in sections if self.everywhere else ():
            there = song.section_by_id[section.id]
            if has_drums(song, there):
                song = placed(song, there, made, *span_ticks(song, there, None, None, None))
        return song

    def summary(self, song: Song) -> str:
        where = "played in all parts" if self.everywhere else "kept together"
        return f"A family of beats from {section_of(song, self.section_id).name}, phrase {self.phrase + 1}, {where}"


@edit("tune_toms", "layers")
class TuneToms:
    """Tune the toms to the key: the nearest of home, fifth and third for each, from low to high without two alike."""

    def apply(self, song: Song) -> Song:
        toms = [x for drum in TOMS for x in song.layers if x.sound.drum == drum and "hz" in x.sound.parameter_by_key]
        if not toms:
            raise EditError("The song has no toms that can be tuned. Add one first, or set a hit on one.")
        taken: set[int] = set()
        for layer in toms:
            pitch = _nearest_tone(song, layer, taken)
            taken.add(pitch)
            song = SetValue(f"layer.{layer.id}.sound.hz", round(pitch_to_hz(pitch, song.tuning_hz), 3)).apply(song)
        return song

    def summary(self, song: Song) -> str:
        return f"Toms tuned to {song.key}"


def _nearest_tone(song: Song, layer: Layer, taken: set[int]) -> int:
    """The pitch of home, third or fifth next to where a drum stands, inside its parameter's range; one that is taken where none is free."""
    knob = layer.sound.parameter_by_key["hz"]
    now = 69 + 12 * math.log2(layer_value(layer, "sound.hz") / song.tuning_hz)
    home, degrees = song.key.tonic_class, song.key.degrees
    classes = {home, (home + degrees[2]) % 12, (home + degrees[4]) % 12}
    inside = [
        p
        for p in range(round(now) - 12, round(now) + 13)
        if p % 12 in classes and knob.low <= pitch_to_hz(p, song.tuning_hz) <= knob.high
    ]
    return min(inside, key=lambda p: (p in taken, abs(p - now), p))
