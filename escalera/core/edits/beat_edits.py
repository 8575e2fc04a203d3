"""Edits of the beat that a phrase plays, whatever plays it: what is no groove yet becomes one with the first of them."""

from __future__ import annotations

from typing import Any

from escalera.core.document.song import Groove, Section, Song
from escalera.core.edits.edit import edit, section_of
from escalera.core.edits.groove_edits import AddGroove, AdoptGroove, SayGroove, SetHit, VaryGroove
from escalera.core.reading.groove_reading import groove_at, groove_beat, phrase_beat
from escalera.core.reading.timeline import Span, section_metres, timeline
from escalera.core.rhythm.beat import Beat, Hit, beat
from escalera.core.rhythm.spoken_beats import parse_spoken
from escalera.core.rhythm.tapped_beats import read_tapped
from escalera.core.time.metre import Metre
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass

TAPPED = {"l": "kick", "h": "snare"}


@dataclass(frozen=True)
class PhraseBeat:
    """The beat of a phrase in one state of a song, and the groove it belongs to, if any."""

    section: Section
    span: Span
    phrase: int
    metre: Metre
    groove: Groove | None
    beat: Beat


def beat_of_phrase(song: Song, section_id: int, phrase: int) -> PhraseBeat:
    """Raises EditError when the section or the phrase is not there."""
    section = section_of(song, section_id)
    if not 0 <= phrase < len(section.phrases):
        raise EditError(
            f"{section.name} has {len(section.phrases)} phrases, no phrase {phrase + 1}. Choose one of them."
        )
    span = timeline(song).span_of(section.id)
    metre = section_metres(section, song.metre)[sum(section.phrases[:phrase])]
    groove = groove_at(song, section, *span.phrase_ticks()[phrase])
    played = groove_beat(song, groove, metre) if groove else phrase_beat(song, span, phrase)
    return PhraseBeat(section, span, phrase, metre, groove, played)


def adopted(song: Song, here: PhraseBeat) -> tuple[Song, int]:
    """The song in which the phrase's beat is a groove, and that groove's id."""
    if here.groove:
        return song, here.groove.id
    known = set(song.groove_by_id)
    song = AdoptGroove(here.section.id, here.phrase).apply(song)
    return song, next(iter(set(song.groove_by_id) - known))


def as_rows(played: Beat) -> list[list[object]]:
    """Hits as rows [tick, drum, velocity], the form in which pages and commands carry them."""
    return [[h.tick, h.drum, h.velocity] for h in played.hits]


def _placed(song: Song, here: PhraseBeat, played: Beat, name: str, feel: str = "") -> Song:
    return AddGroove(name, played.length_ticks, as_rows(played), feel, 0, here.section.id, here.phrase).apply(song)


def _where(song: Song, section_id: int, phrase: int) -> str:
    return f"{section_of(song, section_id).name}, phrase {phrase + 1}"


@edit("hit", "layers notes placements options")
class SetPhraseHit:
    """Set a hit in the beat of a phrase, or take it out with velocity 0; wherever that beat plays."""

    section_id: int
    phrase: int
    drum: str
    tick: int
    velocity: int = 100

    def apply(self, song: Song) -> Song:
        here = beat_of_phrase(song, self.section_id, self.phrase)
        if not here.beat.hits:
            bar = here.metre.bar_ticks
            first = beat(bar, here.metre, [Hit(self.tick % bar, self.drum, self.velocity)])
            return _placed(song, here, first, f"Beat of {here.section.name}")
        song, groove_id = adopted(song, here)
        return self._hit(here, groove_id).apply(song)

    def _hit(self, here: PhraseBeat, groove_id: int) -> SetHit:
        """The hit in the beat's own cycle, where it lies inside the phrase; else as it is, and refused."""
        low, high = here.span.phrase_ticks()[here.phrase]
        inside = 0 <= self.tick < high - low
        tick = self.tick % here.beat.length_ticks if inside else self.tick
        return SetHit(groove_id, self.drum, tick, self.velocity)

    def summary(self, song: Song) -> str:
        here = beat_of_phrase(song, self.section_id, self.phrase)
        if here.beat.hits:
            after, groove_id = adopted(song, here)
            return self._hit(here, groove_id).summary(after)
        return f"Beat of {here.section.name} begun with a {self.drum}"


@edit("say", "layers notes placements options")
class SayPhraseBeat:
    """Write the beat of a phrase in spoken syllables; `anew` leaves the groove that plays there as it is."""

    section_id: int
    phrase: int
    spoken: str
    name: str = ""
    anew: bool = False

    def apply(self, song: Song) -> Song:
        here = beat_of_phrase(song, self.section_id, self.phrase)
        played = parse_spoken(self.spoken, here.metre, dict(song.words))
        if not here.beat.hits or self.anew:
            return _placed(song, here, played, self.name or f"Beat of {here.section.name}")
        song, groove_id = adopted(song, here)
        return SayGroove(groove_id, self.spoken, str(here.metre)).apply(song)

    def summary(self, song: Song) -> str:
        return f"{_where(song, self.section_id, self.phrase)}: beat said, {self.spoken.strip()[:60]}"


@edit("tap", "layers notes placements options")
class TakeTaps:
    """Take tapped hits, 'seconds:l,seconds:h', as a new beat of a phrase, on its steps or as played; `one` is the first beat's moment."""

    section_id: int
    phrase: int
    taps: str
    one: float | None = None
    as_played: bool = False

    def apply(self, song: Song) -> Song:
        here = beat_of_phrase(song, self.section_id, self.phrase)
        found = read_tapped(read_taps(self.taps), self.one, here.span.tempo_points[0].bpm, here.metre)
        return _placed(song, here, found.played if self.as_played else found.beat, "Tapped beat")

    def summary(self, song: Song) -> str:
        return f"{_where(song, self.section_id, self.phrase)}: tapped beat"


def read_taps(text: str) -> list[tuple[float, str]]:
    """Taps as seconds and drum. Raises EditError."""
    try:
        rows = [row.split(":") for row in text.split(",") if row]
        return [(float(seconds), TAPPED[key]) for seconds, key in rows]
    except (ValueError, KeyError):
        raise EditError("The taps cannot be read. Tap again from the start.") from None


@edit("take_beat", "layers notes placements")
class TakeBeat:
    """Take a beat, hits as rows of tick, drum and velocity, as a new groove of a phrase, or of the whole section."""

    section_id: int
    phrase: int
    name: str
    length_ticks: int
    hits: list[Any]
    feel: str = ""
    whole: bool = False

    def apply(self, song: Song) -> Song:
        phrase = None if self.whole else self.phrase
        return AddGroove(self.name, self.length_ticks, self.hits, self.feel, 0, self.section_id, phrase).apply(song)

    def summary(self, song: Song) -> str:
        where = section_of(song, self.section_id).name if self.whole else _where(song, self.section_id, self.phrase)
        return f"{where}: {self.name}"


@edit("vary_beat", "layers notes placements options")
class VaryPhraseBeat:
    """Vary the beat of a phrase; the variant is kept beside the groove it came from."""

    section_id: int
    phrase: int
    variation: str

    def apply(self, song: Song) -> Song:
        song, groove_id = adopted(song, beat_of_phrase(song, self.section_id, self.phrase))
        return VaryGroove(groove_id, self.variation, self.section_id, self.phrase).apply(song)

    def summary(self, song: Song) -> str:
        song, groove_id = adopted(song, beat_of_phrase(song, self.section_id, self.phrase))
        return VaryGroove(groove_id, self.variation, self.section_id, self.phrase).summary(song)
