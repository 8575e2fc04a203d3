"""Edits of length as acts of their own: stretched on purpose, cut short, laid out by a form; slips of a beat mended."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.names import clean_words
from escalera.core.document.song import Song
from escalera.core.edits.edit import edit, one_of, section_of, within
from escalera.core.edits.section_edits import ResizeSection
from escalera.core.reading.slips import find_slips, mended
from escalera.core.reading.timeline import timeline
from escalera.core.time.ticks import bars_counted
from escalera.errors import EditError

MAX_STRETCH = 8
MAX_LENGTH_REASON = 200


@edit("stretch_section", "time harmony form placements shaping")
class StretchSection:
    """Make a section a bar or two longer for tension, or cut it short to move on, and keep the reason."""

    section_id: int
    by_bars: int
    reason: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        by = int(within(self.by_bars, -MAX_STRETCH, MAX_STRETCH, "Stretching by", "bars"))
        if not by:
            raise EditError("By no bars nothing changes. Choose a number, for example 1 or −2.")
        if section.bars + by < 1:
            raise EditError(
                f"{section.name} has {bars_counted(section.bars)}; at most {section.bars - 1} can be cut. Cut fewer."
            )
        reason = clean_words(self.reason, "reason", MAX_LENGTH_REASON)
        phrases = _stretched_phrases(section.phrases, by)
        song = ResizeSection(section.id, section.bars + by).apply(song)
        total = section.stretched + by
        kept = reason or section.length_reason if total else ""
        return song.with_section(
            replace(song.section_by_id[section.id], phrases=phrases, stretched=total, length_reason=kept)
        )

    def summary(self, song: Song) -> str:
        what = "longer" if self.by_bars > 0 else "shorter"
        bars = abs(self.by_bars)
        why = f": {self.reason.strip()}" if self.reason.strip() else ""
        return f"{section_of(song, self.section_id).name} {bars} {'bar' if bars == 1 else 'bars'} {what}{why}"


def _stretched_phrases(phrases: tuple[int, ...], by: int) -> tuple[int, ...]:
    """The last phrase takes the change; what is cut beyond it comes off the one before."""
    kept = list(phrases)
    kept[-1] += by
    while kept and kept[-1] <= 0:
        rest = kept.pop()
        if kept:
            kept[-1] += rest
    return tuple(kept)


@edit("set_length_reason", "form")
class SetLengthReason:
    """Say why a section has the length it has."""

    section_id: int
    reason: str = ""

    def apply(self, song: Song) -> Song:
        reason = clean_words(self.reason, "reason", MAX_LENGTH_REASON)
        return song.with_section(replace(section_of(song, self.section_id), length_reason=reason))

    def summary(self, song: Song) -> str:
        return f"Length of {section_of(song, self.section_id).name}: {self.reason.strip() or 'no reason'}"


@edit("mend_slips", "placements")
class MendSlips:
    """Bring what starts or ends a beat beside a bar line onto it."""

    section_id: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        slips = find_slips(song, timeline(song).span_of(section.id))
        if not slips:
            raise EditError(f"Nothing in {section.name} starts or ends a beat beside a bar line.")
        return song.with_section(mended(section, slips))

    def summary(self, song: Song) -> str:
        return f"Slips of a beat in {section_of(song, self.section_id).name} mended"


DROP_MEANS = {"peak": "drop", "out": "breakdown"}


@edit("say_drop", "song")
class SayDrop:
    """Say what the word drop means in this song: the peak, or that everything drops out; its sections take that role."""

    means: str

    def apply(self, song: Song) -> Song:
        role = DROP_MEANS[one_of(self.means, list(DROP_MEANS), "meaning of drop")]
        sections = tuple(replace(s, role=role) if "drop" in s.name.lower() else s for s in song.sections)
        return replace(song, sections=sections, drop_means=self.means)

    def summary(self, song: Song) -> str:
        return f"A drop is {'the peak' if self.means == 'peak' else 'where everything drops out'}"
