"""Edits of the harmony: key, chords of the song and of sections, their variations, push, tuning, voicings, key changes."""

from __future__ import annotations

import math
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace

from escalera.core.document.bodies import each_body
from escalera.core.document.chord_text import MAX_CHORD_BARS, between_ticks, parse_chordline, stretched, write_chordline
from escalera.core.document.limits import MAX_CAPO, MAX_PASSES, MAX_SHIFT_SEMITONES, MAX_TUNED_DOWN, PUSHES, TUNING_HZ
from escalera.core.document.song import Changes, Progression, Section, Song
from escalera.core.edits.curve_edits import Treat
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, within
from escalera.core.edits.section_edits import ShiftSection
from escalera.core.edits.sound_edits import SetValue
from escalera.core.reading.key_change import APPROACHES, STEP_UP, approach_chords, retuned_drums
from escalera.core.reading.section_harmony import progression_of, section_harmony, section_key
from escalera.core.reading.timeline import section_bar_ticks, section_metres, timeline
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.theory.keys import Key, parse_key
from escalera.core.theory.mode_change import in_key
from escalera.core.theory.pitch import fifths_to_class, name_to_fifths, pitch_to_hz
from escalera.core.theory.voicings import DOUBLES, INVERSIONS, MAX_VOICES, OMITS, PAIRS, SPREADS, Voicing
from escalera.core.time.metre import Metre
from escalera.errors import EditError, InputError, shown


def in_chords(progression: Progression, change: Callable[[Chord], Chord]) -> Progression:
    """A progression with every chord passed through a function, in all of its passes."""

    def through(changes: Changes) -> Changes:
        return tuple((tick, change(chord)) for tick, chord in changes)

    passes = tuple((n, through(changes)) for n, changes in progression.passes)
    return replace(progression, changes=through(progression.changes), passes=passes)


def each_progression(song: Song, change: Callable[[Progression], Progression]) -> Song:
    """The song with every progression, its own and its sections', and every chord on a word passed through a function."""
    song = each_body(song, lambda s: _body_through(s, change))
    return replace(song, progression=change(song.progression) if song.progression else None)


def _body_through(section: Section, change: Callable[[Progression], Progression]) -> Section:
    progression = change(section.progression) if section.progression else None
    moments = tuple(
        replace(m, chord=change(Progression(((0, m.chord),), 1)).changes[0][1]) if m.chord else m
        for m in section.moments
    )
    return section if not progression and not moments else replace(section, progression=progression, moments=moments)


def metre_of(song: Song, section: Section | None) -> Metre:
    """The metre in which chords of the song, or of a section, are written."""
    return section_metres(section, song.metre)[0] if section else song.metre


def home_fifths(song: Song, section: Section | None) -> int:
    """How far a section's chords sound from where they are stored, on the line of fifths."""
    return section_key(song, section).tonic_fifths - song.key.tonic_fifths if section else 0


def read_chords(song: Song, text: str, section: Section | None) -> Progression | None:
    """Chords as typed: in the key that sounds there. Raises EditError that points at the first wrong one."""
    key = section_key(song, section) if section else song.key
    progression = parse_chordline(text, key, metre_of(song, section), section.bars if section else 0)
    moved = home_fifths(song, section)
    return in_chords(progression, lambda c: c.moved(-moved)) if progression and moved else progression


def sounding_chords(song: Song, section: Section | None) -> Progression | None:
    """The loop of a section (its own or the song's), or of the song, as it sounds there."""
    progression = progression_of(song, section) if section else song.progression
    moved = home_fifths(song, section)
    return in_chords(progression, lambda c: c.moved(moved)) if progression and moved else progression


def _where(song: Song, section_id: int | None) -> str:
    return "the song" if section_id is None else section_of(song, section_id).name


def _with(song: Song, section: Section | None, progression: Progression | None) -> Song:
    if section is None:
        return replace(song, progression=progression)
    return song.with_section(replace(section, progression=progression))


@edit("set_key", "harmony")
class SetKey:
    """Set the key; what follows the harmony moves with it, chords keep their place in the key if asked."""

    key: str
    move_chords: bool = True

    def apply(self, song: Song) -> Song:
        key = parse_key(self.key)
        old, song = song.key, replace(song, key=key)
        if not self.move_chords:
            return song
        layers = tuple(replace(x, voicing=_voiced_in(x.voicing, old, key)) for x in song.layers)
        return each_progression(replace(song, layers=layers), lambda p: in_chords(p, lambda c: in_key(c, old, key)))

    def summary(self, song: Song) -> str:
        key = parse_key(self.key)
        how = (
            ", chords as they were"
            if not self.move_chords
            else ", chords by their degrees"
            if key.mode != song.key.mode
            else ""
        )
        return f"Key: {key}{how}"


def _voiced_in(voicing: Voicing, old: Key, new: Key) -> Voicing:
    """A voicing whose single chords are those of another key."""
    moved = replace(voicing, pairs_at="")
    for name, pair in voicing.own_pairs.items():
        with suppress(InputError):  # what a file names and is no chord is left out
            moved = moved.with_pair_at(str(in_key(parse_chord(name), old, new)), pair)
    return moved


@edit("set_chords", "harmony")
class SetChords:
    """Set the chords of the song or of one section; an empty line takes a section's own chords away.

    A loop of the same length keeps its variations on single passes.
    """

    chords: str
    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        section = None if self.section_id is None else section_of(song, self.section_id)
        progression = read_chords(song, self.chords, section)
        if progression is None and section is None and song.progression is not None:
            raise EditError(
                "The line is empty, and the song's layers follow its chords. Write at least one, for example I."
            )
        old = section.progression if section else song.progression
        if progression and old and old.length_ticks == progression.length_ticks:
            progression = replace(progression, passes=old.passes)
        if section is None:  # written by hand, and no more read from a file
            song = replace(song, chords_read=False)
        return _with(song, section, progression)

    def summary(self, song: Song) -> str:
        return f"Chords of {_where(song, self.section_id)}: {self.chords.strip() or 'none of its own'}"[:120]


@edit("vary_chords", "harmony")
class VaryChords:
    """Play other chords on one pass of the loop (from 2), or on a section's last (0); an empty line takes them away."""

    on_pass: int
    chords: str
    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        section = None if self.section_id is None else section_of(song, self.section_id)
        own = (section.progression or song.progression) if section else song.progression
        if own is None:
            raise EditError(f"There are no chords to vary in {_where(song, self.section_id)}. Write a loop first.")
        if self.on_pass != 0:
            within(self.on_pass, 2, MAX_PASSES, "Pass")
        others = tuple(row for row in own.passes if row[0] != self.on_pass)
        varied = read_chords(song, self.chords, section)
        if varied is not None:
            if varied.length_ticks != own.length_ticks:
                bar = metre_of(song, section).bar_ticks
                raise EditError(
                    f"This pass has {varied.length_ticks / bar:g} bars, and the loop has {own.length_ticks / bar:g}."
                    " Write as many; % holds the chord before for a bar."
                )
            others = tuple(sorted((*others, (self.on_pass, varied.changes))))
        return _with(song, section, replace(own, passes=others))

    def summary(self, song: Song) -> str:
        which = f"pass {self.on_pass}" if self.on_pass else "the last pass"
        return f"Chords of {_where(song, self.section_id)} on {which}: {self.chords.strip() or 'as the loop'}"[:120]


@edit("stretch_chords", "harmony")
class StretchChords:
    """Let the same chords last over another number of bars: the harmonic rhythm."""

    bars: int
    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        section = None if self.section_id is None else section_of(song, self.section_id)
        own = progression_of(song, section) if section else song.progression
        if own is None:
            raise EditError(f"There are no chords to stretch in {_where(song, self.section_id)}. Write a loop first.")
        most = section.bars if section else MAX_CHORD_BARS
        bars = int(within(self.bars, 1, most, "A loop of", "bars"))
        return _with(song, section, stretched(own, bars * metre_of(song, section).bar_ticks))

    def summary(self, song: Song) -> str:
        return f"Chords of {_where(song, self.section_id)} over {self.bars} {'bar' if self.bars == 1 else 'bars'}"


@edit("push_chords", "harmony")
class PushChords:
    """Let every chord that stands on a bar line come early, in the whole song; 0 puts them back."""

    push_ticks: int

    def apply(self, song: Song) -> Song:
        if self.push_ticks not in PUSHES:
            raise EditError(
                f"A push of {self.push_ticks} ticks is not offered. Choose one of {', '.join(map(str, PUSHES))}."
            )
        return replace(song, push_ticks=self.push_ticks)

    def summary(self, song: Song) -> str:
        return f"Chords come {self.push_ticks / 960:g} beats early" if self.push_ticks else "Chords on the bar line"


@edit("set_tuning", "harmony")
class SetTuning:
    """Say how the instruments are tuned: the pitch of A, how far they are tuned down, and a capo."""

    tuning_hz: float | None = None
    tuned_down: int | None = None
    capo_fret: int | None = None

    def apply(self, song: Song) -> Song:
        hz = song.tuning_hz if self.tuning_hz is None else within(self.tuning_hz, *TUNING_HZ, "A tuning of", "Hz")
        down = (
            song.tuned_down
            if self.tuned_down is None
            else int(within(self.tuned_down, 0, MAX_TUNED_DOWN, "Tuned down by", "semitones"))
        )
        capo = song.capo_fret if self.capo_fret is None else int(within(self.capo_fret, 0, MAX_CAPO, "A capo at fret"))
        return replace(song, tuning_hz=round(float(hz), 2), tuned_down=down, capo_fret=capo)

    def summary(self, song: Song) -> str:
        after = self.apply(song)
        return f"Tuning: A is {after.tuning_hz:g} Hz, tuned down {after.tuned_down}, capo {after.capo_fret}"


VOICING_PARTS = {"spread": SPREADS, "inversion": INVERSIONS, "omit": OMITS, "double": DOUBLES, "pair": ("", *PAIRS), "octave_below": ("no", "yes"), "clear": ("no", "yes"),
                 "voices": tuple(map(str, range(MAX_VOICES + 1)))}  # fmt: skip


@edit("tune_drum", "layers")
class TuneDrum:
    """Tune a drum to a note of the key, in the octave nearest to where it is; without a note, to the home note."""

    layer_id: int
    note: str = ""

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        parameter = layer.sound.parameter_by_key.get("hz") if layer.sound.is_drum else None
        if parameter is None:
            raise EditError(f"{layer.name} has no pitch that can be tuned. Choose a kick, snare, tom or hand drum.")
        now = dict(layer.settings).get("hz", parameter.default)
        wanted = fifths_to_class(name_to_fifths(self.note)) if self.note else song.key.tonic_class
        pitch = 69.0 + 12.0 * math.log2(now / song.tuning_hz)
        nearest = round((pitch - wanted) / 12.0) * 12 + wanted
        return SetValue(f"layer.{layer.id}.sound.hz", round(pitch_to_hz(nearest, song.tuning_hz), 3)).apply(song)

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name} tuned to {self.note or song.key.spell(song.key.tonic_class)}"


@edit("set_voicing", "layers")
class SetVoicing:
    """Say how a layer lays out the chords it follows: spread, lowest tone, an octave below, what is left out or doubled."""

    layer_id: int
    part: str
    value: str = ""

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        allowed = VOICING_PARTS[one_of(self.part, list(VOICING_PARTS), "part of a voicing")]
        value: object = one_of(self.value, allowed, self.part.replace("_", " "))
        if self.part == "voices":
            value = int(self.value)
        elif VOICING_PARTS[self.part] == ("no", "yes"):
            value = self.value == "yes"
        changed = {self.part: value}
        if self.part == "pair":  # two notes, and as many as are written without one
            changed["voices"] = 2 if value else 0
        return song.with_layer(replace(layer, voicing=replace(layer.voicing, **changed)))  # type: ignore[arg-type]

    def summary(self, song: Song) -> str:
        said = {"voices": "as many voices as written" if self.value == "0" else f"{self.value} voices"}.get(
            self.part, self.value or "none"
        )
        return f"{layer_of(song, self.layer_id).name}, {self.part.replace('_', ' ')}: {said}"


@edit("set_pair_at", "layers")
class SetPairAt:
    """Let a layer that plays two notes of every chord play another two of one chord, wherever it comes; or the usual ones again."""

    layer_id: int
    chord: str
    pair: str = ""

    def apply(self, song: Song) -> Song:
        layer = layer_of(song, self.layer_id)
        if not layer.voicing.pair:
            raise EditError(f"{layer.name} plays whole chords. Choose two notes for all of them first.")
        one_of(self.pair, ("", *PAIRS), "pair of notes")
        known = {str(c) for span in timeline(song).spans for c in section_harmony(song, span).home}
        if self.chord not in known:
            raise EditError(f"“{shown(self.chord)}” is no chord of this song. Choose one that is: {', '.join(sorted(known))[:80]}.")  # fmt: skip
        return song.with_layer(replace(layer, voicing=layer.voicing.with_pair_at(self.chord, self.pair)))

    def summary(self, song: Song) -> str:
        return f"{layer_of(song, self.layer_id).name}, two notes on {self.chord}: {self.pair or 'as on the others'}"


@edit("change_key_at", "layers harmony shaping options")
class ChangeKeyAt:
    """Change the key at a section, for it alone or for all that follows, with the chords that lead there."""

    section_id: int
    semitones: int
    to_the_end: bool = True
    approach: str = STEP_UP

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        by = int(within(self.semitones, -MAX_SHIFT_SEMITONES, MAX_SHIFT_SEMITONES, "A key change of", "semitones"))
        one_of(self.approach, APPROACHES, "way into the new key")
        index = song.index_of(section.id)
        if self.approach != STEP_UP:
            song = _led_into(song, index, by, self.approach)
        for later in song.sections[index:] if self.to_the_end else (section,):
            song = ShiftSection(later.id, later.shift_semitones + by).apply(song)
            song = _with_tuned_drums(song, later.id)
        return song

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return (
            f"Key change at {section.name}: {self.semitones:+d} semitones, "
            f"{'to the end' if self.to_the_end else 'this section only'}"
        )


def _led_into(song: Song, index: int, by: int, approach: str) -> Song:
    """The section before, its last bar leading into the new key."""
    if index == 0:
        raise EditError("The first section has none before it to lead into the new key. Choose the step up.")
    before, section = song.sections[index - 1], song.sections[index]
    chords = approach_chords(
        section_key(song, before),
        section_key(song, replace(section, shift_semitones=section.shift_semitones + by)),
        approach,
    )
    if not chords:
        raise EditError("The two keys share no chord. Choose the step up, or the dominant.")
    edges = section_bar_ticks(before, song.metre)
    written = between_ticks(_some(song, before), 0, edges[-1], edges[-1])
    low, moved = edges[-2], home_fifths(song, before)
    step = (edges[-1] - low) // len(chords)
    rows = tuple(row for row in written.changes if row[0] < low) + tuple(
        (low + i * step, c.moved(-moved)) for i, c in enumerate(chords)
    )
    return song.with_section(replace(before, progression=Progression(rows, edges[-1])))


def _some(song: Song, section: Section) -> Progression:
    progression = progression_of(song, section)
    if progression is None:
        raise EditError(f"{section.name} has no chords that could lead into another key. Write some first.")
    return progression


def _with_tuned_drums(song: Song, section_id: int) -> Song:
    section = section_of(song, section_id)
    for layer, lane, value in retuned_drums(song, section):
        song = Treat(section_id, layer.id, lane, value).apply(song)
    return song


@edit("set_chords_here", "harmony")
class SetChordsHere:
    """Write chords as they sound in a section: its own where it has some (or `here`), else the whole song's in the song's key."""

    section_id: int
    chords: str
    here: bool = False

    def _meant(self, song: Song) -> SetChords:
        section = section_of(song, self.section_id)
        if section.progression is not None or self.here:
            return SetChords(self.chords, section.id)
        return SetChords(write_chordline(read_chords(song, self.chords, section), song.metre))

    def apply(self, song: Song) -> Song:
        return self._meant(song).apply(song)

    def summary(self, song: Song) -> str:
        return self._meant(song).summary(song)
