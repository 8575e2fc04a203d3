"""Edits of how drums are felt and called: swing, and the user's own words for them."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.limits import MAX_WORDS, SWING_RATIOS, SWING_TICKS
from escalera.core.document.song import Song, Swing
from escalera.core.edits.edit import edit, layer_of, one_of, section_of, within
from escalera.core.rhythm.beat import RANK
from escalera.core.rhythm.spoken_beats import check_word
from escalera.errors import EditError


@edit("set_swing", "shaping")
class SetSwing:
    """Let a section, or one layer in it, swing: where the second of two eighths or sixteenths comes, 50 to 75 %."""

    section_id: int
    percent: float
    subdivision: str = "1/8"
    layer_id: int = 0

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        if self.layer_id:
            layer_of(song, self.layer_id)
        ratio = within(self.percent, SWING_RATIOS[0] * 100, SWING_RATIOS[1] * 100, "A swing of", "%") / 100
        ticks = dict(zip(("1/8", "1/16"), SWING_TICKS))[one_of(self.subdivision, ("1/8", "1/16"), "subdivision")]
        rest = tuple(s for s in section.swings if s.layer_id != self.layer_id)
        straight = ratio == SWING_RATIOS[0] and (self.layer_id == 0 or not any(s.layer_id == 0 for s in rest))
        swings = (
            rest
            if straight
            else tuple(sorted((*rest, Swing(self.layer_id, ticks, round(ratio, 4))), key=lambda s: s.layer_id))
        )
        return song.with_section(replace(section, swings=swings))

    def summary(self, song: Song) -> str:
        who = layer_of(song, self.layer_id).name + " in " if self.layer_id else ""
        return f"Swing of {who}{section_of(song, self.section_id).name}: {self.subdivision} at {self.percent:g} %"


@edit("teach_word", "song")
class TeachWord:
    """Teach a word for a drum, or (without a drum) forget it."""

    word: str
    drum: str = ""

    def apply(self, song: Song) -> Song:
        word = check_word(self.word)
        rest = tuple(row for row in song.words if row[0] != word)
        if not self.drum:
            return replace(song, words=rest)
        if len(rest) >= MAX_WORDS:
            raise EditError(f"There are {MAX_WORDS} own words, and no more fit. Delete one first.")
        return replace(song, words=(*rest, (word, one_of(self.drum, list(RANK), "drum"))))

    def summary(self, song: Song) -> str:
        return (
            f"“{check_word(self.word)}” is now the {self.drum}" if self.drum else f"“{check_word(self.word)}” forgotten"
        )
