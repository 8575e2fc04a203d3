"""Edits of sections: their order, length, names, roles, phrases and targets."""

from __future__ import annotations

from dataclasses import replace

from escalera.core.document.bodies import fresh_copy
from escalera.core.document.chord_text import between_ticks, rotated, unrolled
from escalera.core.document.limits import MAX_BARS, MAX_SECTIONS, MAX_SHIFT_SEMITONES
from escalera.core.document.names import clean_name, guess_role, next_name, numbered_by_place
from escalera.core.document.shaping import after_each_other, between, with_parked_devices
from escalera.core.document.song import ROLES, Ids, Progression, Section, Song, default_phrases
from escalera.core.document.target import Target, in_row
from escalera.core.document.tempos import tempos_from, tempos_until
from escalera.core.edits.edit import edit, id_in, one_of, section_of, within
from escalera.core.reading.placements import clip, joined, moved, ordered
from escalera.core.reading.timeline import section_bar_ticks, section_metres, tempo_points
from escalera.core.time.tempo import TempoPoint
from escalera.core.time.ticks import bars_counted
from escalera.core.voices.section_singing import merge_singing, split_singing
from escalera.errors import EditError

# A new section's target when nothing is said: what its role usually wants.
USUAL_TARGET: dict[str, tuple[float, float]] = {
    "intro": (2, 3), "verse": (4, 4.5), "pre-chorus": (5, 6.5), "chorus": (8, 8), "post-chorus": (7.5, 7),
    "break": (2.5, 2.5), "breakdown": (3, 3), "build": (4, 7.5), "pre-drop": (5, 3), "drop": (9, 9),
    "bridge": (5, 6), "solo": (7, 7.5), "jam": (6, 7), "interlude": (4, 4), "turnaround": (5, 5),
    "re-intro": (4, 4), "tag": (7, 6), "outro": (3.5, 1.5), "none": (5, 5),
}  # fmt: skip


def _check_bars(song: Song, bars: int, instead_of: int = 0) -> int:
    within(bars, 1, MAX_BARS, "A length of", "bars")
    total = song.bars - instead_of + bars
    if total > MAX_BARS:
        raise EditError(
            f"The song would have {total} bars; at most {MAX_BARS} fit. Shorten this section or another one."
        )
    return bars


def _insert(song: Song, section: Section, index: int, next_id: int) -> Song:
    if len(song.sections) >= MAX_SECTIONS:
        raise EditError(f"The song has {MAX_SECTIONS} sections, and no more fit. Merge some first.")
    sections = (*song.sections[:index], section, *song.sections[index:])
    return replace(song, sections=sections, next_id=next_id)


@edit("add_section", "form")
class AddSection:
    """Add an empty section after another one (at the front after 0, at the end when nothing is said)."""

    name: str = "Section"
    role: str = ""
    bars: int = 8
    after_id: int | None = None

    def apply(self, song: Song) -> Song:
        name = clean_name(self.name)
        role = one_of(self.role, ROLES, "role") if self.role else guess_role(name)
        bars = _check_bars(song, self.bars)
        index = len(song.sections)
        if self.after_id is not None:
            index = 0 if self.after_id == 0 else song.index_of(section_of(song, self.after_id).id) + 1
        if any(s.name == name for s in song.sections):
            name = next_name(song, name)
        section = Section(song.next_id, name, role, bars, default_phrases(bars), Target(*USUAL_TARGET[role]))
        return numbered_by_place(_insert(song, section, index, song.next_id + 1))

    def summary(self, song: Song) -> str:
        return f"Added {clean_name(self.name)}, {bars_counted(self.bars)}"


@edit("remove_section", "form")
class RemoveSection:
    """Take a section out; the last one stays."""

    section_id: int

    def apply(self, song: Song) -> Song:
        section_of(song, self.section_id)
        if len(song.sections) == 1:
            raise EditError("This is the only section, and a song needs one. Add another before you remove it.")
        index = song.index_of(self.section_id)
        gone = song.sections[index]
        rest = [s for s in song.sections if s.id != gone.id]
        if gone.devices or gone.build:
            heir = min(index, len(rest) - 1)
            rest[heir] = with_parked_devices(rest[heir], gone)
        return replace(song, sections=tuple(rest))

    def summary(self, song: Song) -> str:
        return f"Removed {section_of(song, self.section_id).name}"


@edit("move_section", "form")
class MoveSection:
    """Move a section by a number of places, earlier (negative) or later."""

    section_id: int
    by: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        index = song.index_of(section.id)
        target = index + self.by
        if not 0 <= target < len(song.sections):
            raise EditError(
                f"{section.name} cannot move past the {'start' if self.by < 0 else 'end'} of the "
                f"song. It stays where it is."
            )
        rest = [s for s in song.sections if s.id != section.id]
        return numbered_by_place(replace(song, sections=(*rest[:target], section, *rest[target:])))

    def summary(self, song: Song) -> str:
        return f"Moved {section_of(song, self.section_id).name} {'earlier' if self.by < 0 else 'later'}"


@edit("split_section", "time harmony form placements shaping options singing")
class SplitSection:
    """Split a section after a number of its bars; the second half becomes a section of its own."""

    section_id: int
    after_bars: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        if section.bars < 2:
            raise EditError(f"{section.name} has one bar and cannot be split. Lengthen it first.")
        within(self.after_bars, 1, section.bars - 1, "A split after", "bars")
        return _split(song, section, self.after_bars)

    def summary(self, song: Song) -> str:
        return f"Split {section_of(song, self.section_id).name} after {bars_counted(self.after_bars)}"


def _split(song: Song, section: Section, bars: int) -> Song:
    edges = section_bar_ticks(section, song.metre)
    cut, ids = edges[bars], Ids(song.next_id)
    left = [p for p in (clip(p, 0, cut) for p in section.placements) if p]
    tail = [p for p in (clip(p, cut, edges[-1]) for p in section.placements) if p]
    right = [replace(moved(p, -cut, song), id=ids()) for p in tail]
    share = bars / section.bars
    first = replace(
        section,
        bars=bars,
        phrases=_phrases_before(section.phrases, bars),
        placements=ordered(left),
        **between(song, section, 0, cut),
        target=section.target.cut(0.0, share),
        metre_changes=tuple(c for c in section.metre_changes if c[0] < bars),
        tempo_changes=tempos_until(section, cut),
        progression=_progression_until(song, section, cut),
    )
    second = Section(
        ids(),
        next_name(song, section.name),
        section.role,
        section.bars - bars,
        _phrases_before(section.phrases[::-1], section.bars - bars)[::-1],
        section.target.cut(share, 1.0),
        _metres_from(song, section, bars),
        tempos_from(section, cut),
        section.shift_semitones,
        _progression_from(song, section, cut),
        ordered(right),
        swings=section.swings,
        **between(song, section, cut, edges[-1]),
    )
    song = song.with_section(first)
    song = _insert(song, second, song.index_of(section.id) + 1, ids.next_id)
    later = Ids(song.next_id)
    return replace(split_singing(song, section, second.id, cut, later), next_id=later.next_id)


def _phrases_before(phrases: tuple[int, ...], bars: int) -> tuple[int, ...]:
    kept, total = [], 0
    for length in phrases:
        if total < bars:
            kept.append(min(length, bars - total))
        total += length
    return tuple(kept)


def _metres_from(song: Song, section: Section, bar: int):  # type: ignore[no-untyped-def]
    current = section_metres(section, song.metre)[bar]
    later = tuple((b - bar, metre) for b, metre in section.metre_changes if b > bar)
    return later if current == song.metre else ((0, current), *later)


def _progression_from(song: Song, section: Section, tick: int) -> Progression | None:
    current = section.progression or song.progression
    if current is None or (section.progression is None and tick % current.length_ticks == 0):
        return section.progression
    if current.passes:
        end = section_bar_ticks(section, song.metre)[-1]
        return between_ticks(current, tick, end, end)
    return rotated(current, tick)


def _progression_until(song: Song, section: Section, tick: int) -> Progression | None:
    """A loop with variations of its passes is written out, so that its end stays where it was."""
    current = section.progression or song.progression
    if current is None or not current.passes:
        return section.progression
    return between_ticks(current, 0, tick, section_bar_ticks(section, song.metre)[-1])


@edit("merge_sections", "time harmony form placements shaping options singing")
class MergeSections:
    """Join a section with the one after it; it keeps its name."""

    section_id: int

    def apply(self, song: Song) -> Song:
        left = section_of(song, self.section_id)
        index = song.index_of(left.id)
        if index + 1 == len(song.sections):
            raise EditError(f"{left.name} is the last section; there is none after it to merge with.")
        right = song.sections[index + 1]
        if left.shift_semitones != right.shift_semitones:
            raise EditError(
                f"{left.name} and {right.name} stand "
                f"{abs(left.shift_semitones - right.shift_semitones)} semitones apart."
                " Bring them to the same key first."
            )
        merged = _merge(song, left, right)
        song = replace(song, sections=(*song.sections[:index], merged, *song.sections[index + 2 :]))
        return merge_singing(song, left, right)

    def summary(self, song: Song) -> str:
        return f"Merged {section_of(song, self.section_id).name} with the next section"


def _merge(song: Song, left: Section, right: Section) -> Section:
    length = section_bar_ticks(left, song.metre)[-1]
    placements = joined((*left.placements, *(moved(p, length, song) for p in right.placements)))
    metre_there = section_metres(right, song.metre)[0]
    metre_here = section_metres(left, song.metre)[-1]
    metres = (() if metre_here == metre_there else ((left.bars, metre_there),)) + tuple(
        (bar + left.bars, metre) for bar, metre in right.metre_changes if bar > 0
    )
    here = tempo_points(left, song.tempo_bpm)[-1]
    there = tempo_points(right, song.tempo_bpm)
    same = there[0] == TempoPoint(0, here.bpm)
    tempos = tuple(p._replace(tick=p.tick + length) for p in there[same:])
    kept = left.tempo_changes[:-1] if here.tick == length and not same else left.tempo_changes
    return replace(
        with_parked_devices(left, right),
        bars=left.bars + right.bars,
        phrases=left.phrases + right.phrases,
        placements=placements,
        target=in_row(left.target, left.bars / (left.bars + right.bars), right.target),
        metre_changes=left.metre_changes + metres,
        tempo_changes=kept + tempos,
        progression=_merged_chords(song, left, right, length),
        **after_each_other(song, left, right, length, length + section_bar_ticks(right, song.metre)[-1]),
    )


def _merged_chords(song: Song, left: Section, right: Section, length: int) -> Progression | None:
    a, b = left.progression or song.progression, right.progression or song.progression
    if a is None or b is None or (a == b and length % a.length_ticks == 0):
        return left.progression or right.progression if a is not b else left.progression
    total = length + section_bar_ticks(right, song.metre)[-1]
    changes = unrolled(a, length) + [(t + length, chord) for t, chord in unrolled(b, total - length)]
    return Progression(tuple(changes), total)


@edit("duplicate_section", "form")
class DuplicateSection:
    """Put a copy of a section after it, or after another one."""

    section_id: int
    after_id: int | None = None

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        _check_bars(song, section.bars)
        after = section_of(song, self.after_id) if self.after_id else section
        ids = Ids(song.next_id)
        copy = replace(fresh_copy(section, ids), name=next_name(song, section.name))
        return numbered_by_place(_insert(song, copy, song.index_of(after.id) + 1, ids.next_id))

    def summary(self, song: Song) -> str:
        return f"Duplicated {section_of(song, self.section_id).name}"


@edit("resize_section", "time harmony form placements shaping")
class ResizeSection:
    """Give a section another number of bars; what played to its end goes on to the new end."""

    section_id: int
    bars: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        bars = _check_bars(song, self.bars, section.bars)
        old_end = section_bar_ticks(section, song.metre)[-1]
        changes = tuple(c for c in section.metre_changes if c[0] < bars)
        resized = replace(section, bars=bars, phrases=default_phrases(bars), metre_changes=changes)
        end = section_bar_ticks(resized, song.metre)[-1]
        stretched = (
            replace(p, end_ticks=end) if p.end_ticks == old_end and end > old_end else clip(p, 0, end)
            for p in section.placements
        )
        tempos = tempos_until(section, end) if end < old_end else section.tempo_changes
        resized = replace(resized, placements=ordered(p for p in stretched if p), tempo_changes=tempos)
        return song.with_section(replace(resized, **between(song, section, 0, end)) if end < old_end else resized)

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{section.name}: {section.bars} → {bars_counted(self.bars)}"


@edit("rename_section", "form")
class RenameSection:
    """Give a section another name."""

    section_id: int
    name: str

    def apply(self, song: Song) -> Song:
        section, name = section_of(song, self.section_id), clean_name(self.name)
        if any(s.name == name and s.id != section.id for s in song.sections):
            raise EditError(
                f"Another section is called “{name}”. Take another name, for example “{next_name(song, name)}”."
            )
        role = guess_role(name) if section.role == "none" else section.role
        return song.with_section(replace(section, name=name, role=role))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name} is now called {clean_name(self.name)}"


@edit("set_role", "form")
class SetRole:
    """Say which role a section plays."""

    section_id: int
    role: str

    def apply(self, song: Song) -> Song:
        role = one_of(self.role, ROLES, "role")
        return song.with_section(replace(section_of(song, self.section_id), role=role, guessed=False))

    def summary(self, song: Song) -> str:
        return f"Role of {section_of(song, self.section_id).name}: {self.role}"


@edit("set_phrases", "form")
class SetPhrases:
    """Divide a section into phrases, written as bars: 4+4+2."""

    section_id: int
    phrases: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        parts = self.phrases.replace(" ", "").split("+")
        if not all(id_in(part) for part in parts):
            raise EditError(
                f"“{self.phrases[:40]}” is not a row of phrases. Write bars with plus signs, for example 4+4+2."
            )
        lengths = tuple(int(part) for part in parts)
        if sum(lengths) != section.bars:
            raise EditError(
                f"{'+'.join(parts)} makes {bars_counted(sum(lengths))}, but {section.name} has {section.bars}. "
                f"Make the sum {section.bars}."
            )
        return song.with_section(replace(section, phrases=lengths))

    def summary(self, song: Song) -> str:
        return f"Phrases of {section_of(song, self.section_id).name}: {self.phrases}"


@edit("shift_section", "harmony shaping")
class ShiftSection:
    """Raise or lower a section: its chords, what follows them and its pitched notes; drums stay."""

    section_id: int
    semitones: int

    def apply(self, song: Song) -> Song:
        shift = int(within(self.semitones, -MAX_SHIFT_SEMITONES, MAX_SHIFT_SEMITONES, "A shift of", "semitones"))
        return song.with_section(replace(section_of(song, self.section_id), shift_semitones=shift))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name} shifted by {self.semitones:+d} semitones"
