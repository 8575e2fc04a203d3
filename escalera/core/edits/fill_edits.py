"""Edits of fills at the ends of phrases: placed, played over the beat, taken out again."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.names import clean_name
from escalera.core.document.song import Groove, Ids, Section, Song
from escalera.core.edits.edit import edit, one_of, section_of
from escalera.core.edits.groove_edits import Hits, at_words, metre_of, new_groove, placed, read_hits
from escalera.core.reading.groove_reading import FILL, fill_in, phrase_beat
from escalera.core.reading.placements import cleared, joined, span_ticks
from escalera.core.reading.timeline import timeline
from escalera.core.rhythm.beat import Beat, beat
from escalera.core.rhythm.beat_variations import as_loud, over_last_bar, with_fill
from escalera.errors import EditError

OVER = {"keep": "", "replace": " in place of what was there", "layer": " over the beat"}
FILL_LEVELS = ("written", "beat")


@edit("place_fill", "layers notes placements options")
class PlaceFill:
    """Let the last bar of each phrase of a section (or of one phrase) give way to a fill, or play it over the beat.

    A phrase that ends with a fill keeps it unless `over` says that it is replaced, or that this one is played over it. `level`
    may bring the fill to the loudness of the beat's own strokes.
    """

    section_id: int
    name: str
    length_ticks: int
    hits: Hits
    phrase: int | None = None
    over: str = "keep"
    level: str = "written"

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        one_of(self.over, list(OVER), "way to lay a fill")
        one_of(self.level, list(FILL_LEVELS), "level of a fill")
        fill = beat(self.length_ticks, metre_of(song, section), read_hits(self.hits))
        made: dict[Beat, Groove] = {}
        for phrase in self._phrases(song, section):
            low, high = span_ticks(song, song.section_by_id[section.id], phrase, None, None)
            bar = fill.metre.bar_ticks
            before = phrase_beat(song, timeline(song).span_of(section.id), phrase)
            laid = as_loud(fill, before) if self.level == "beat" else fill
            if self.over == "layer":
                ending = over_last_bar(before, laid, high - low)
            else:
                ending = with_fill(before, laid, 1)
            if ending not in made:
                song, made[ending] = new_groove(song, self.name, ending, FILL)
            song = placed(song, song.section_by_id[section.id], made[ending], max(low, high - bar), high)
        return song

    def _phrases(self, song: Song, section: Section) -> list[int]:
        """The phrases that get it. Raises EditError where all that are meant end with a fill that is to stay."""
        meant = list(range(len(section.phrases))) if self.phrase is None else [self.phrase]
        span_ticks(song, section, self.phrase, None, None)
        if self.over != "keep":
            return meant
        there = {p: found for p in meant if (found := fill_in(song, section, p)) is not None}
        if len(there) == len(meant):
            names = ", ".join(dict.fromkeys(f"“{f.groove.name}”" for f in there.values()))
            raise EditError(f"{section.name} ends its phrase with {names} already. Replace it, or play this one over it.")  # fmt: skip
        return [p for p in meant if p not in there]

    def summary(self, song: Song) -> str:
        section, said = section_of(song, self.section_id), ""
        if self.over == "keep":
            meant = range(len(section.phrases)) if self.phrase is None else (self.phrase,)
            kept = sum(fill_in(song, section, p) is not None for p in meant)
            said = f"; {kept} {'phrase keeps its' if kept == 1 else 'phrases keep their'} fill" if kept else ""
        return f"Fill {clean_name(self.name)}{OVER[self.over]}" + at_words(song, self.section_id, self.phrase) + said


@edit("remove_fill", "placements options")
class RemoveFill:
    """Take the fill at the end of a phrase out: what plays before it goes on."""

    section_id: int
    phrase: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        low, high = span_ticks(song, section, self.phrase, None, None)
        found = fill_in(song, section, self.phrase)
        if found is None:
            raise EditError(f"Phrase {self.phrase + 1} of {section.name} ends without a fill.")
        start = max(low, high - found.bar_ticks)
        ids, placements = Ids(song.next_id), list(section.placements)
        for layer in (x for x in song.layers if x.sound.is_drum):
            placements = cleared(placements, layer.id, start, high, ids)
        on = [
            replace(p, end_ticks=high)
            if p.end_ticks == start and p.start_ticks < start and song.layer_by_id[p.layer_id].sound.is_drum
            else p
            for p in placements
        ]
        return replace(song.with_section(replace(section, placements=joined(on))), next_id=ids.next_id)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}, phrase {self.phrase + 1}: the fill out"
