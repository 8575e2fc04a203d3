"""What the page of voices shows: a phrase of a section with its takes, comp, words and stack."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np

from escalera.core.document.fields import FieldSpec
from escalera.core.document.singing import WORD_MOMENTS, Lyric, Polish, Take, WordMoment
from escalera.core.document.song import Layer
from escalera.core.edits.edit import id_in
from escalera.core.edits.harmony_edits import home_fifths
from escalera.core.moves.move import is_pitched
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.palette.voice_parts import LEAD, VOICE_PARTS
from escalera.core.reading.phrase_notes import Note, PhraseNotes
from escalera.core.rhythm.pattern import FIXED
from escalera.core.voices.comp import CompPart, comp_of, cuts_of, take_number, takes_of
from escalera.core.voices.harmonies import voice_line
from escalera.core.voices.melody import MelodyNote, guide_of, melody_of
from escalera.core.voices.next_voice import NextVoice, doubles_for, next_voices, place_said
from escalera.core.voices.polish_plan import judged_by_number
from escalera.core.voices.take_judgement import TakeJudged, judge_take, looseness
from escalera.core.voices.voice_stack import (
    MISSING,
    Range,
    StackPlace,
    breathless_s,
    chorus_over_verse,
    outside_range,
    pitch_range,
    singer_range,
    stack_of,
)
from escalera.core.voices.word_places import (
    LinePlace,
    StressBeside,
    WordsLaid,
    lines_of,
    lyric_of,
    moment_word,
    stresses_beside,
    words_laid,
)
from escalera.core.words.lyric_lines import LyricLine, compared_lines, counted_words, times_sung
from escalera.lazy_dataclasses import dataclass
from escalera.services.pitch_lines import line_of
from escalera.services.takes import polish_amounts
from escalera.store.repository import Head
from escalera.web.bench_drawing import Ladder, draw_ladder, percent, rungs_of, span_of_pitches
from escalera.web.page_view import PhraseView
from escalera.web.song_view import Selection, studio
from escalera.web.voice_drawing import PlacedWord, Ribbon, heights, ribbon_path, spread

CUTS = {"phrase": "by phrases", "line": "by lines", "word": "by words"}
OFF_SHOWN = 5
REST_SIZE = 6


@dataclass(frozen=True, slots=True)
class TakeRow:
    """A take in the lane: its number, what is said of it, which cuts of the comp it plays."""

    take: Take
    number: int
    said: str
    cells: tuple[tuple[int, int, bool, bool], ...]  # from, to, plays there, was sung there


class VoicesView(PhraseView):
    """All that the templates of voices ask for. `fields` are what the page says of itself."""

    def __init__(self, head: Head, select: str, fields: Mapping[str, str] | None = None):
        super().__init__(head, select)
        fields = fields or {}
        self.part = fields.get("voice", "") if fields.get("voice") in VOICE_PARTS else LEAD
        self.by = fields.get("by", "") if fields.get("by") in CUTS else "phrase"
        self.selection = Selection("section", self.section.id, 0, self.phrase)
        asked = self.song.take_by_id.get(id_in(fields.get("take", "")))
        self.chosen = asked if asked in self.takes else (self.takes[-1] if self.takes else None)

    # takes and comp -------------------------------------------------------------------------------------------------

    @cached_property
    def takes(self) -> list[Take]:
        """Takes of the chosen voice in the section."""
        return takes_of(self.song, self.section, self.part)

    @cached_property
    def pieces(self) -> tuple[CompPart, ...]:
        return comp_of(self.song, self.section, self.part)

    @cached_property
    def cuts(self) -> list[tuple[int, int]]:
        low, high = self.edges
        every = cuts_of(self.song, self.span, self.by)
        return every if self.by == "phrase" else [(a, b) for a, b in every if a < high and b > low]

    @cached_property
    def rows(self) -> list[TakeRow]:
        return [
            TakeRow(
                t,
                take_number(self.song, t),
                self._said(t),
                tuple((a, b, self._plays(t, a, b), self._sung(t, a, b)) for a, b in self.cuts),
            )
            for t in self.takes
        ]

    def _plays(self, take: Take, low: int, high: int) -> bool:
        inside = sum(
            min(p.high, high) - max(p.low, low)
            for p in self.pieces
            if p.take_id == take.id and p.low < high and p.high > low
        )
        return inside > (high - low) / 2

    def _sung(self, take: Take, low: int, high: int) -> bool:
        return take.low_ticks < high and (take.high_ticks or self.span.length_ticks) > low

    def _said(self, take: Take) -> str:
        if take.reason:
            return take.reason
        return self.judged(take).said()

    def judged(self, take: Take) -> TakeJudged:
        part = take.voice if guide_of(self.song, self.section, take.voice) else LEAD
        return judge_take(take, melody_of(self.song, self.span, part), self.span)

    def furthest(self) -> list[tuple[str, str, str]]:
        """The notes of the chosen take that lie furthest off: where, which, by how much."""
        if self.chosen is None:
            return []
        notes = sorted(self.judged(self.chosen).notes, key=lambda n: -max(abs(n.cents) / 10.0, abs(n.late_ms) / 15.0))
        return [
            (place_said(self.span, n.melody.start), self.key.pitch_name(n.melody.pitch), off_said(n.cents, n.late_ms))
            for n in notes[:OFF_SHOWN]
            if abs(n.cents) >= 8 or abs(n.late_ms) >= 15
        ]

    def players(self) -> list[tuple[int, str]]:
        """How the chosen take lies against others of the section, by their strokes: measured, and left alone."""
        if self.chosen is None:
            return []
        others = [t for t in self.song.takes if t.section_id == self.section.id and t.id != self.chosen.id]
        found = [(take_number(self.song, t), looseness(self._strokes(t), self._strokes(self.chosen))) for t in others]
        return [(number, k.said()) for number, k in found if k is not None][:3]

    def _strokes(self, take: Take) -> list[float]:
        sample = self.song.sample_by_content.get(take.content)
        rows = sample.onset_rows.tolist() if sample else []
        return [at - take.zero_s for at, strength, _ in rows if strength > 0.25]

    def number(self, take_id: int) -> int:
        take = self.song.take_by_id.get(take_id)
        return take_number(self.song, take) if take else 0

    def sewn(self) -> str:
        """From which takes the comp is made, in words."""
        numbers = sorted({self.number(p.take_id) for p in self.pieces if p.take_id})
        if not self.pieces:
            return "no take chosen yet" if self.takes else "no take yet"
        told = (
            ", ".join(map(str, numbers[:-1]))
            + (" and " if len(numbers) > 1 else "")
            + (str(numbers[-1]) if numbers else "")
        )
        seams = sum(b.low - a.high < 2 for a, b in zip(self.pieces, self.pieces[1:]))
        return f"sewn from {'takes' if len(numbers) > 1 else 'take'} {told}" + (
            f", {seams} {'seam' if seams == 1 else 'seams'}" if seams else ""
        )

    def doubles(self) -> dict[int, str]:
        """How alike takes of the lead are to the comp, by id."""
        return {t.id: k.said() for t, k in doubles_for(self.song, self.section.id)} if self.part == LEAD else {}

    def free_parts(self) -> list[str]:
        """Voices that a take could sing instead of its own."""
        return [p for p in VOICE_PARTS if p != self.part]

    def polish_fields(self) -> list[tuple[FieldSpec, float]]:
        values = self.chosen.polish if self.chosen else Polish()
        return [(spec, getattr(values, name)) for name, spec in polish_amounts().items()]

    def tuned_notes(self) -> list[tuple[int, str, str, str, str]]:
        """(number, where, which, how far off, own amount in percent) of the notes of the chosen take."""
        if self.chosen is None:
            return []
        own = {n.note: f"{100 * n.tune:.0f}" for n in self.chosen.polish.by_note}
        rows = sorted(judged_by_number(self.song, self.span, self.chosen).items())
        return [
            (
                i,
                place_said(self.span, n.melody.start),
                self.key.pitch_name(n.melody.pitch),
                f"{n.cents:+.0f}".replace("-", "−"),
                own.get(i, ""),
            )
            for i, n in rows
        ]

    # the ladder -----------------------------------------------------------------------------------------------------

    @cached_property
    def guide(self) -> Layer | None:
        return guide_of(self.song, self.section, self.part) or guide_of(self.song, self.section)

    def guides(self) -> list[Layer]:
        """Layers whose notes a lead could sing."""
        return [x for x in self.song.layers if not x.clips and is_pitched(x) and x.voice in ("", LEAD)]

    @cached_property
    def melody(self) -> tuple[MelodyNote, ...]:
        return melody_of(self.song, self.span, self.part) or melody_of(self.song, self.span)

    @cached_property
    def ladder(self) -> Ladder:
        low, high = self.edges
        notes = [
            Note(n.start - low, n.end - n.start, n.pitch, 90, FIXED, n.pitch, 0, i, 0)
            for i, n in enumerate(self.melody)
            if low <= n.start < high
        ]
        register = (self._lowest_sung(notes), self._highest_sung(notes))
        bottom, top = span_of_pitches(
            [*notes, *self._as_notes(register)] if notes or self.takes else [], (57, 72), self.key
        )
        line = PhraseNotes(low, high, tuple(notes), ())
        return draw_ladder(
            line,
            rungs_of(self.key, bottom, top, False),
            self.shades,
            self.bars,
            self.beats,
            frozenset(),
            False,
            (0, 127),
        )

    def _as_notes(self, pitches: tuple[int, int]) -> list[Note]:
        return [Note(0, 1, p, 90, FIXED, p, 0, 0, 0) for p in pitches if p]

    def _sung_pitches(self) -> list[int]:
        return [round(n.pitch) for t in self.takes for n in t.sung if n.end_s - n.start_s > 0.1]

    def _lowest_sung(self, notes: list[Note]) -> int:
        floor = min((n.pitch for n in notes), default=0) - 7
        return min((p for p in self._sung_pitches() if p >= floor), default=0)

    def _highest_sung(self, notes: list[Note]) -> int:
        roof = max((n.pitch for n in notes), default=120) + 7
        return max((p for p in self._sung_pitches() if p <= roof), default=0)

    def ribbons(self) -> list[Ribbon]:
        """The comp as ribbons, and the chosen take where it is not in it, in pieces of the phrase."""
        low, high = self.edges
        found = []
        if self.chosen is not None:
            found.append(self._ribbon(self.chosen, low, high, False))
        for p in self.pieces:
            take = self.song.take_by_id.get(p.take_id)
            if take is not None and p.low < high and p.high > low:
                found.append(self._ribbon(take, max(low, p.low), min(high, p.high), True))
        return [r for r in found if r.path]

    def _ribbon(self, take: Take, low: int, high: int, in_comp: bool) -> Ribbon:
        sample = self.song.sample_by_content.get(take.played)
        seconds, pitch = line_of(studio().lines_folder, take.played, sample.seconds if sample else 0.0)
        seconds = seconds - take.zero_s
        inside = (seconds >= self.span.seconds_at(low)) & (seconds <= self.span.seconds_at(high))
        return Ribbon(
            take.id, ribbon_path(seconds[inside], pitch[inside], self.span, *self.edges, self.ladder.rungs), in_comp
        )

    def seams(self) -> list[float]:
        """Where two pieces of the comp meet, in per cent of the phrase."""
        low, high = self.edges
        meets = [b.low for a, b in zip(self.pieces, self.pieces[1:]) if b.low - a.high < 2]
        return [percent(t - low, high - low) for t in meets if low < t < high]

    def facts(self) -> dict[str, Any]:
        """What the recorder asks of the page: the section, the phrase in it, in bars, ticks and seconds."""
        low, high = self.edges
        return {
            "section": self.section.id, "voice": self.part, "bars": list(self.bar_range),
            "low": low, "high": high, "length": self.span.length_ticks, "bar_s": self.span.seconds_at(self.span.bar_ticks[1]),
            "phrase_s": [self.span.seconds_at(low), self.span.seconds_at(high)], "comp": bool(self.pieces),
            "beats": self.span.bar_metres[0].bar_ticks // self.span.bar_metres[0].beat_ticks,
        }  # fmt: skip

    # words ----------------------------------------------------------------------------------------------------------

    @cached_property
    def lyric(self) -> Lyric | None:
        return lyric_of(self.section)

    @cached_property
    def lines(self) -> tuple[LyricLine, ...]:
        return lines_of(self.song, self.section)

    @cached_property
    def laid(self) -> WordsLaid:
        return words_laid(self.song, self.span)

    def placed_words(self) -> list[PlacedWord]:
        low, high = self.edges
        inside = [p for p in self.laid.places if low <= p.start < high]
        ys = heights(np.array([float(p.pitch) for p in inside]), self.ladder.rungs) if inside else np.zeros(0)
        rows = [
            PlacedWord(
                percent(p.start - low, high - low),
                float(y) + 7,
                p.text + ("" if p.last else "-"),
                p.stress == "1",
                p.word,
            )
            for p, y in zip(inside, ys)
        ]
        return spread(rows)

    def line_rows(self) -> list[tuple[LyricLine, LinePlace | None, str]]:
        """Every line with where it lies, and what is said of it against the melody."""
        by_line = {id(p.line): p for p in self.laid.lines}
        return [(line, by_line.get(id(line)), self._of_line(line, by_line.get(id(line)))) for line in self.lines]

    def _of_line(self, line: LyricLine, place: LinePlace | None) -> str:
        if not self.melody:
            return "no melody yet"
        if place is None:
            return "longer than the melody: no note is left for it"
        if place.over > 0:
            return f"{place.over} {'syllable' if place.over == 1 else 'syllables'} without a note"
        if place.over < 0:
            return f"{-place.over} {'note' if place.over == -1 else 'notes'} without a syllable: held, or a word more"
        return "fits"

    def stresses(self) -> list[StressBeside]:
        return stresses_beside(self.song, self.span)

    def at(self, tick: int) -> str:
        return place_said(self.span, tick)

    def unequal(self) -> list[str]:
        """Lines of sections with the same role that have other numbers of syllables."""
        told = []
        for other in self.song.sections:
            if other.id != self.section.id and other.role == self.section.role and other.role != "none":
                theirs = lines_of(self.song, other)
                told += [
                    f"line {c.line + 1} has {c.ours} syllables, in {other.name} {c.theirs}"
                    for c in compared_lines(self.lines, theirs)
                ]
        return told[:3]

    def counted(self) -> list[tuple[str, int]]:
        """The title, and words that return, with how often they are sung in the song."""
        every = [line for s in self.song.sections for line in lines_of(self.song, s)]
        title = [(self.song.title, times_sung(self.song.title, every))] if every else []
        return [*title, *((w, n) for w, n in counted_words(every))][:REST_SIZE]

    def moments(self) -> list[tuple[int, str, str]]:
        """(number, what, word) of what is tied to words."""
        return [
            (i, self._moment_label(m), moment_word(self.song, self.section, m) or "a word that is gone")
            for i, m in enumerate(self.section.moments)
        ]

    def _moment_label(self, moment: WordMoment) -> str:
        if moment.chord is None:
            return JOIN_KINDS[moment.kind].label
        return str(moment.chord.moved(home_fifths(self.song, self.section)))

    def moment_kinds(self) -> list[tuple[str, str]]:
        return [(k, JOIN_KINDS[k].label if k in JOIN_KINDS else "Another chord") for k in WORD_MOMENTS]

    def words(self) -> list[tuple[int, str]]:
        return list(enumerate(w.text for line in self.lines for w in line.words))

    # the stack ------------------------------------------------------------------------------------------------------

    @cached_property
    def stack(self) -> tuple[StackPlace, ...]:
        return stack_of(self.song, self.section)

    def rails(self) -> list[list[StackPlace]]:
        """The stack in rows of three hooks."""
        return [list(self.stack[i : i + 3]) for i in range(0, len(self.stack), 3)]

    def unwanted(self) -> list[str]:
        """Voices that could be wanted too."""
        there = {s.part.key for s in self.stack}
        return [p for p in VOICE_PARTS if p not in there]

    def stack_said(self) -> str:
        wanted = [s for s in self.stack if s.state != "not wanted"]
        sung = sum(s.state == "sung" for s in wanted)
        missing = sum(s.state == MISSING for s in wanted)
        return f"{sung} of {len(wanted)} sung" + (f", {missing} missing" if missing else "")

    def singer(self) -> Range | None:
        return singer_range(self.song)

    def section_range(self) -> str:
        found = pitch_range(self.melody)
        return f"{self.key.pitch_name(found[0])} to {self.key.pitch_name(found[1])}" if found else ""

    def too_high(self) -> str:
        """How many notes of this voice the singer does not reach, in words."""
        count = outside_range(self.song, self.melody)
        return f"{count} {'note lies' if count == 1 else 'notes lie'} outside it." if count else ""

    def clashes(self) -> str:
        """Where a strict parallel of the chosen voice would clash, in words."""
        found = voice_line(self.song, self.span, self.part).clashes
        if not found:
            return ""
        told = [
            f"{place_said(self.span, c.tick)} {self.key.pitch_name(c.sung)} for {self.key.pitch_name(c.strict)}, {c.why}"
            for c in found[:3]
        ]
        more = f", and {len(found) - 3} more" if len(found) > 3 else ""
        return f"A strict parallel would clash at {'; '.join(told)}{more}."

    def over_verse(self) -> str:
        found = chorus_over_verse(self.song)
        if found is None:
            return ""
        by, verse, chorus = found
        if by > 0:
            return f"{chorus.name} reaches {by:.0f} semitones higher than {verse.name}"
        return f"{chorus.name} reaches no higher than {verse.name}: it will not feel larger"

    def breath(self) -> float:
        return round(breathless_s(self.song, self.span), 1)

    def nexts(self) -> list[NextVoice]:
        return next_voices(self.song, self.span)


def off_said(cents: float, late_ms: float) -> str:
    """How far a note lies off, in words."""
    told = []
    if abs(cents) >= 8:
        told.append(f"{abs(cents):.0f} cents {'high' if cents > 0 else 'low'}")
    if abs(late_ms) >= 15:
        told.append(f"{abs(late_ms):.0f} ms {'late' if late_ms > 0 else 'early'}")
    return ", ".join(told)
