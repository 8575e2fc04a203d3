"""Edits of length as acts of their own: stretched on purpose, cut short, laid out by a form; slips of a beat mended."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.form_text import numbered, parse_form
from escalera.core.document.limits import MAX_BARS, MAX_SECTIONS
from escalera.core.document.names import clean_words, guess_role
from escalera.core.document.song import Ids, Section, Song, default_phrases, fresh_copy
from escalera.core.document.target import Target
from escalera.core.edits.edit import edit, one_of, section_of, within
from escalera.core.edits.section_edits import USUAL_TARGET, ResizeSection
from escalera.core.edits.touched import EVERYTHING
from escalera.core.reading.placements import clip, ordered
from escalera.core.reading.slips import find_slips, mended
from escalera.core.reading.timeline import section_bar_ticks, timeline
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


# what of an eight-bar loop a section of each role plays: families in its first half, and in its second
ALL = ("drums", "low end", "chords", "leads", "voices", "atmosphere", "effects")
ROLE_FAMILIES: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "intro": (("chords", "atmosphere"), ("chords", "atmosphere", "leads")),
    "verse": (("drums", "low end", "voices"), ("drums", "low end", "voices", "chords")),
    "pre-chorus": (("low end", "chords", "voices"), ("drums", "low end", "chords", "voices", "effects")),
    "break": (("chords", "atmosphere"), ("chords", "atmosphere", "leads")),
    "breakdown": (("chords", "atmosphere"), ("chords", "atmosphere", "voices")),
    "build": (("drums", "chords"), ("drums", "chords", "leads", "effects")),
    "pre-drop": (("chords", "effects"), ("effects",)),
    "bridge": (("chords", "voices"), ("chords", "voices", "low end")),
    "solo": (("drums", "low end", "chords", "leads"),) * 2,
    "interlude": (("chords", "leads", "atmosphere"),) * 2,
    "turnaround": (("drums", "low end", "chords"),) * 2,
    "re-intro": (("chords", "atmosphere"),) * 2,
    "outro": (("low end", "chords", "voices", "atmosphere"), ("chords", "atmosphere")),
}  # fmt: skip
FILLS = ("by role", "full", "empty")


@edit("lay_out", EVERYTHING)
class LayOut:
    """Lay the song out by a form: sections of the same name stay, others are made from the loop by what their role wants."""

    text: str
    source_id: int = 0
    fill: str = "by role"

    def apply(self, song: Song) -> Song:
        parts = _parts(self.text)
        one_of(self.fill, FILLS, "way of filling")
        source = song.section_by_id.get(self.source_id) or max(song.sections, key=lambda s: len(s.placements))
        ids, made = Ids(song.next_id), []
        left = {s.name.lower(): s for s in song.sections}
        for name, bars in parts:
            kept = left.pop(name.lower(), None)
            if kept is not None:
                made.append(kept if kept.bars == bars else _in_bars(song, kept, bars))
                continue
            role = guess_role(name)
            like = next(
                (s for s in (*made, *song.sections) if s.role == role and role != "none" and s.placements), None
            )
            made.append(self._section(song, name, role, bars, like, source, ids))
        return replace(song, sections=tuple(made), next_id=ids.next_id)

    def _section(
        self, song: Song, name: str, role: str, bars: int, like: Section | None, source: Section, ids: Ids
    ) -> Section:
        """A new section: as another of its role, or from the loop by what its role wants."""
        plain = Section(ids(), name, role, bars, default_phrases(bars), Target(*USUAL_TARGET[role]))
        if self.fill == "empty":
            return plain
        model = _in_bars(song, like or source, bars)
        section = replace(
            fresh_copy(model, ids),
            name=name,
            role=role,
            target=plain.target,
            phrases=plain.phrases,
            stretched=0,
            length_reason="",
            parked=(),
            body_name="",
            body_who="",
        )
        if like or self.fill == "full" or role not in ROLE_FAMILIES:
            return section
        return replace(section, placements=_by_role(song, section, role, ids))

    def summary(self, song: Song) -> str:
        parts = _parts(self.text)
        return f"Laid out: {len(parts)} sections, {sum(b for _, b in parts)} bars"


def _by_role(song: Song, section: Section, role: str, ids: Ids):  # type: ignore[no-untyped-def]
    bars = section_bar_ticks(section, song.metre)
    middle = bars[sum(section.phrases[: max(1, len(section.phrases) // 2)])] if len(section.phrases) > 1 else bars[-1]
    families = {x.id: x.family for x in song.layers}
    kept = []
    for p in section.placements:
        for (low, high), wanted in zip(((0, middle), (middle, bars[-1])), ROLE_FAMILIES[role]):
            part = clip(p, low, high) if low < high and families[p.layer_id] in wanted else None
            if part:
                kept.append(replace(part, id=ids()) if part is not p else part)
    return ordered(kept)


def _in_bars(song: Song, section: Section, bars: int) -> Section:
    """A section with another number of bars, as ResizeSection makes it."""
    alone = replace(song, sections=(section,))
    return ResizeSection(section.id, bars).apply(alone).sections[0] if section.bars != bars else section


def _parts(text: str) -> list[tuple[str, int]]:
    parts = numbered(parse_form(text))
    total = sum(bars for _, bars in parts)
    for number, (name, bars) in enumerate(parts, 1):
        within(bars, 1, MAX_BARS, f"Part {number}, {name}: a length of", "bars")
    if total > MAX_BARS or len(parts) > MAX_SECTIONS:
        raise EditError(
            f"The form has {len(parts)} sections and {total} bars; at most {MAX_SECTIONS} and "
            f"{MAX_BARS} fit. Shorten it."
        )
    return parts
