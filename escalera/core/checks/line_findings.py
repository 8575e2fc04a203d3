"""What is wrong with one line in one phrase, each finding with remedies: commands with what they would do."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from escalera.core.bench.layer_jobs import Stretches, clashing, jobs, pitched_notes
from escalera.core.document.song import Layer, Song
from escalera.core.edits import Edit
from escalera.core.edits.harmony_edits import SetChords
from escalera.core.edits.line_edits import TransformLine
from escalera.core.edits.section_edits import ResizeSection
from escalera.core.edits.voice_edits import AnswerOnly, FoldLine
from escalera.core.lines.note_encoding import how_written
from escalera.core.reading.phrase_notes import PhraseNotes, outside, range_of
from escalera.core.reading.section_harmony import progression_of, section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.time.ticks import bars_counted
from escalera.lazy_dataclasses import dataclass

FEWEST_CLASHES = 3


@dataclass(frozen=True, slots=True)
class Remedy:
    """A command that would mend a finding, in words, with its effect."""

    label: str
    effect: str
    command: Edit


@dataclass(frozen=True, slots=True)
class LineFinding:
    title: str
    said: str
    remedies: tuple[Remedy, ...] = ()


@dataclass(frozen=True, slots=True)
class _Place:
    song: Song
    span: Span
    phrase: int
    layer: Layer
    line: PhraseNotes

    @property
    def ids(self) -> tuple[int, int, int]:
        """Section, layer and phrase, as edits of a line are addressed."""
        return self.span.section.id, self.layer.id, self.phrase


def line_findings(song: Song, span: Span, phrase: int, layer: Layer, line: PhraseNotes) -> list[LineFinding]:
    """What is wrong with a layer's line in a phrase of a section."""
    here = _Place(song, span, phrase, layer, line)
    return [finding for find in FINDERS for finding in find(here)]


def _out_of_range(here: _Place) -> Iterator[LineFinding]:
    below, above = outside(here.line, here.layer)
    count = below + above
    if not count:
        return
    key = section_harmony(here.song, here.span).key
    low, high = (key.pitch_name(p) for p in range_of(here.layer))
    where = "below" if not above else "above" if not below else "outside"
    said = (
        f"{count} {'note lies' if count == 1 else 'notes lie'} {where} the range of "
        f"{here.layer.sound.label}, {low} to {high}. They sound, but not as the sound is "
        f"meant."
    )
    yield LineFinding(
        "Outside the range", said, (Remedy("Into the range, by octaves", f"−{count} outside", FoldLine(*here.ids)),)
    )


def _without_chords(here: _Place) -> Iterator[LineFinding]:
    follows = any(how_written(n.kind) == "chord" for n in here.line.notes)
    if not follows or progression_of(here.song, here.span.section) is not None:
        return
    harmony = section_harmony(here.song, here.span)
    chord = harmony.chords[harmony.index_at(here.line.low)]
    said = f"The line follows the chords, but nobody wrote any: it stays on {chord}. Write them below, or take these."
    usual = "i | VI | III | VII" if harmony.key.is_minor else "I | V | vi | IV"
    yield LineFinding("No chords to follow", said, (Remedy(usual, "", SetChords(usual)),))


def _too_long(here: _Place) -> Iterator[LineFinding]:
    section, bar = here.span.section, here.span.bar_metres[0].bar_ticks
    for placement in here.line.placements:
        entry = here.song.pattern_by_id[placement.pattern_id]
        room, long = here.span.length_ticks, entry.pattern.length_ticks
        if long > room:
            said = (
                f"“{entry.name}” is {bars_counted(long / bar)} long; {section.name} has {room / bar:g}, so "
                f"its end is not heard."
            )
            grow = Remedy(f"Make {section.name} as long", "", ResizeSection(section.id, -(-long // bar)))
            yield LineFinding(
                "Longer than its section",
                said,
                (grow, Remedy("Twice as fast here", "", TransformLine(*here.ids, "double-time"))),
            )
            return


def _with_the_voice(here: _Place) -> Iterator[LineFinding]:
    found = jobs(here.song, here.span)
    clash = next((c for c in found.clashes if c.layer.id == here.layer.id), None)
    if clash is None or clash.notes < FEWEST_CLASHES or found.voice is None:
        return
    said = (
        f"{clash.notes} of its {clash.of} notes in {here.span.section.name} lie within "
        f"{clash.voice.name}’s range while it sings."
    )
    low, high = here.span.phrase_ticks()[here.phrase]
    notes = pitched_notes(here.song, here.span, here.layer)
    sung = pitched_notes(here.song, here.span, found.voice.layer)
    elsewhere = [n for n in notes if not low <= n[0] < high]
    raised = [(a, b, p + 12) for a, b, p in notes if low <= a < high]
    stretches = Stretches(sung)
    silent = all(stretches.meets(n) for n in notes if low <= n[0] < high)  # then nothing would be left to answer
    ways: tuple[tuple[str, list[tuple[int, int, int]], Edit], ...] = (
        ("Answer only in the gaps", notes if silent else [], AnswerOnly(*here.ids, clash.voice.id)),
        ("An octave up here", raised, TransformLine(*here.ids, "octave-up")),
    )
    remedies = []
    for label, after, command in ways:
        fewer = clash.notes - len(clashing(found.voice, sorted([*elsewhere, *after]), sung))
        if fewer > 0:
            remedies.append(Remedy(label, f"−{fewer} {'clash' if fewer == 1 else 'clashes'}", command))
    yield LineFinding("Fills the voice’s register", said, tuple(remedies))


FINDERS: tuple[Callable[[_Place], Iterator[LineFinding]], ...] = (_out_of_range, _without_chords, _too_long, _with_the_voice)  # fmt: skip
