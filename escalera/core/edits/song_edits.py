"""Edits of the song as a whole: title, tempo, metre, key, school, chords, energy scale."""

from __future__ import annotations

import math
from dataclasses import replace

from escalera.core.document.bodies import each_body
from escalera.core.document.limits import MAX_TEMPO_BPM, MAX_TITLE, MIN_TEMPO_BPM
from escalera.core.document.names import clean_name
from escalera.core.document.schools import SCHOOLS, SWITCHES
from escalera.core.document.song import EnergyScale, Section, Song
from escalera.core.document.tempos import with_glide, without_glides
from escalera.core.edits.edit import edit, one_of, section_of, within
from escalera.core.energy.terms import MODEL
from escalera.core.reading.placements import remap_bars
from escalera.core.reading.timeline import section_bar_ticks, tempo_points
from escalera.core.time.metre import parse_metre
from escalera.core.time.tempo import TempoPoint
from escalera.errors import EditError, shown


@edit("rename_song", "song")
class RenameSong:
    """Give the song another title."""

    title: str

    def apply(self, song: Song) -> Song:
        return replace(song, title=clean_name(self.title, "title", MAX_TITLE))

    def summary(self, song: Song) -> str:
        return f"Title: {clean_name(self.title, 'title', MAX_TITLE)}"


def tempo_of(text: str) -> float:
    """A tempo as somebody writes it. Raises EditError for what is none, or outside the limits."""
    try:
        tempo = float(text.strip().casefold().removesuffix("bpm").replace(",", "."))
    except ValueError as error:
        raise EditError(
            f"“{shown(text)}” is not a tempo. Write a number of beats a minute, for example 104."
        ) from error
    return within(tempo, MIN_TEMPO_BPM, MAX_TEMPO_BPM, "A tempo of", "bpm")


@edit("set_tempo", "time options")
class SetTempo:
    """Set the tempo of the song (changes inside sections keep their ratio), or of one section."""

    tempo_bpm: float
    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        tempo = within(self.tempo_bpm, MIN_TEMPO_BPM, MAX_TEMPO_BPM, "A tempo of", "bpm")
        if self.section_id is not None:
            section = section_of(song, self.section_id)
            later = tuple(p for p in without_glides(section.tempo_changes) if p.tick > 0)
            own = () if math.isclose(tempo, song.tempo_bpm) else (TempoPoint(0, tempo),)
            return song.with_section(replace(section, tempo_changes=own + later))
        ratio = tempo / song.tempo_bpm
        return replace(each_body(song, lambda s: _scaled(s, ratio)), tempo_bpm=tempo)

    def summary(self, song: Song) -> str:
        where = "" if self.section_id is None else f" of {section_of(song, self.section_id).name}"
        return f"Tempo{where}: {self.tempo_bpm:g} bpm"


def _scaled(section: Section, ratio: float) -> Section:
    points = tuple(p._replace(bpm=p.bpm * ratio) for p in section.tempo_changes)
    for point in points:
        within(
            round(point.bpm, 3),
            MIN_TEMPO_BPM,
            MAX_TEMPO_BPM,
            f"The change inside {section.name} would be at",
            "bpm, and that",
        )
    return replace(section, tempo_changes=points)


@edit("glide_tempo", "time")
class GlideTempo:
    """Let the tempo glide to another one over a span of a section, by default over all of it."""

    section_id: int
    to_bpm: float
    start_ticks: int = 0
    end_ticks: int = 0

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        tempo = within(self.to_bpm, MIN_TEMPO_BPM, MAX_TEMPO_BPM, "A tempo of", "bpm")
        length = section_bar_ticks(section, song.metre)[-1]
        end = self.end_ticks or length
        if not 0 <= self.start_ticks < end <= length:
            raise EditError(
                f"The glide would run from tick {self.start_ticks} to {end}, and {section.name} has "
                f"{length}. Choose bars inside it."
            )
        points = with_glide(tempo_points(section, song.tempo_bpm), self.start_ticks, end, tempo)
        return song.with_section(replace(section, tempo_changes=points))

    def summary(self, song: Song) -> str:
        return f"Tempo of {section_of(song, self.section_id).name} glides to {self.to_bpm:g} bpm"


@edit("set_metre", "time harmony placements shaping options")
class SetMetre:
    """Set the metre of the song, or of one section; bars keep their numbers."""

    metre: str
    section_id: int | None = None

    def apply(self, song: Song) -> Song:
        metre = parse_metre(self.metre)
        if self.section_id is None:
            return replace(each_body(song, lambda s: remap_bars(s, song.metre, s, metre)), metre=metre)
        section = section_of(song, self.section_id)
        changed = replace(section, metre_changes=() if metre == song.metre else ((0, metre),))
        return song.with_section(remap_bars(section, song.metre, changed, song.metre))

    def summary(self, song: Song) -> str:
        where = "" if self.section_id is None else f" of {section_of(song, self.section_id).name}"
        return f"Time signature{where}: {self.metre}"


@edit("set_school", "song")
class SetSchool:
    """Choose the school: the preset of switches, weights and strictness."""

    school: str

    def apply(self, song: Song) -> Song:
        return replace(song, school=one_of(self.school, list(SCHOOLS), "style"))

    def summary(self, song: Song) -> str:
        return f"Style: {SCHOOLS[self.school].label}"


@edit("set_switch", "song")
class SetSwitch:
    """Set one switch by itself; 'school' hands it back to the school."""

    switch: str
    value: str

    def apply(self, song: Song) -> Song:
        one_of(self.switch, list(SWITCHES), "switch")
        rest = tuple(pair for pair in song.switches if pair[0] != self.switch)
        if self.value == "school":
            return replace(song, switches=rest)
        one_of(self.value, list(SWITCHES[self.switch].options), f"position of “{SWITCHES[self.switch].label}”")
        return replace(song, switches=(*rest, (self.switch, self.value)))

    def summary(self, song: Song) -> str:
        return f"{SWITCHES[self.switch].label}: {self.value}"


@edit("set_scale", "song")
class SetScale:
    """Freeze how raw energy maps to 0..10 in this song; without numbers the school's range returns."""

    gain: float | None = None
    offset: float = 0.0

    def apply(self, song: Song) -> Song:
        if self.gain is not None:
            within(self.gain, 0.1, 100.0, "A scale of")
            within(self.offset, -100.0, 0.0, "A scale offset of")
        if self.gain is None:
            return replace(song, scale=EnergyScale())
        return replace(song, scale=EnergyScale(self.gain, self.offset, MODEL))

    def summary(self, song: Song) -> str:
        return "Energy scale: the style's" if self.gain is None else "Energy scale fitted to this song"


@edit("set_master", "mix")
class SetMaster:
    """Set the level of the whole mix before the ceiling."""

    gain_db: float

    def apply(self, song: Song) -> Song:
        return replace(song, master_gain_db=within(self.gain_db, -24.0, 24.0, "A mix level of", "dB"))

    def summary(self, song: Song) -> str:
        return f"Mix level: {self.gain_db:+g} dB"


@edit("set_life", "mix")
class SetLife:
    """Say how much hits and notes vary as hands vary them, 0 to 100 %; 0 repeats them exactly."""

    percent: float

    def apply(self, song: Song) -> Song:
        return replace(song, life=round(within(self.percent, 0, 100, "Played by hand by", "%") / 100, 3))

    def summary(self, song: Song) -> str:
        return f"Played by hand: {self.percent:g} %" if self.percent else "Played exactly as written"


@edit("set_notes", "song")
class SetNotes:
    """Write a note about the song."""

    notes: str

    def apply(self, song: Song) -> Song:
        if len(self.notes) > 10_000:
            raise EditError(f"The note has {len(self.notes):,} characters; at most 10,000 fit. Shorten it.")
        return replace(song, notes=self.notes)

    def summary(self, song: Song) -> str:
        return "Note changed"
