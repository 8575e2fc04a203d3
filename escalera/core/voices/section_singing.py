"""What is sung in sections that are split and merged: words go with their lines, moments with their words, takes with what they sing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from escalera.core.document.limits import MAX_LYRIC, MAX_MOMENTS, MAX_SAMPLE_S, MAX_TAKES
from escalera.core.document.singing import Lyric, Take
from escalera.core.document.song import Section, Song
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.core.reading.timeline import timeline
from escalera.core.voices.word_places import words_laid
from escalera.core.words.lyric_lines import WORD
from escalera.errors import EditError

SAME_S = 0.001


def split_singing(song: Song, before: Section, second_id: int, cut: int, ids: Callable[[], int]) -> Song:
    """The song, in which a section was split at a tick, with its words, moments and takes on both sides; `before` is it as it was."""
    first, second = song.section_by_id[before.id], song.section_by_id[second_id]
    share = cut / (cut + timeline(song).span_of(second_id).length_ticks)
    lines = [_lines_before(song, before, i, cut, share) for i in range(len(before.lyrics))]
    cuts = [_cut(lyric, count) for lyric, count in zip(before.lyrics, lines)]
    words = len(WORD.findall(cuts[min(before.lyric, len(cuts) - 1)][0].lines)) if cuts else 0
    first = replace(
        first,
        lyrics=tuple(a for a, _ in cuts),
        lyric=before.lyric,
        moments=tuple(m for m in before.moments if m.word < words),
    )
    second = replace(
        second, lyrics=tuple(b for _, b in cuts), lyric=before.lyric, wanted=before.wanted,
        moments=tuple(replace(m, word=m.word - words) for m in before.moments if m.word >= words),
    )  # fmt: skip
    takes = _takes_on_both_sides(song, before.id, second_id, cut, ids)
    return replace(song.with_section(first).with_section(second), takes=takes)


def _takes_on_both_sides(
    song: Song, first_id: int, second_id: int, cut: int, ids: Callable[[], int]
) -> tuple[Take, ...]:
    """The song's takes, those of a section that was split at a tick in the half that they sing, or in both."""
    cut_s = timeline(song).span_of(first_id).length_seconds
    takes: list[Take] = []
    for take in song.takes:
        if take.section_id != first_id:
            takes.append(take)
            continue
        low, high = take.low_ticks, take.high_ticks or 2 * cut
        if low < cut:
            takes.append(replace(take, high_ticks=min(high, cut)))
        if high > cut:
            moved = replace(take, section_id=second_id, zero_s=min(MAX_SAMPLE_S, take.zero_s + cut_s))
            id = ids() if low < cut else take.id
            takes.append(replace(moved, id=id, low_ticks=max(0, low - cut), high_ticks=high - cut))
    if len(takes) > MAX_TAKES:
        raise EditError(
            f"On both sides there would be {len(takes)} takes; at most {MAX_TAKES} fit. Take out some that were set aside."
        )
    return tuple(takes)


def _lines_before(song: Song, section: Section, number: int, cut: int, share: float) -> int:
    """How many lines of a version of the words are sung before a tick: as they lie on the melody, else by the share of the section."""
    old = replace(song, sections=(replace(section, lyric=number),))
    laid = words_laid(old, timeline(old).span_of(section.id))
    total = len([line for line in section.lyrics[number].lines.splitlines() if WORD.search(line)])
    return sum(p.start < cut for p in laid.lines) if laid.lines else round(share * total)


def _cut(lyric: Lyric, count: int) -> tuple[Lyric, Lyric]:
    """A version of the words in two, after so many lines that hold words."""
    rows = lyric.lines.splitlines()
    at = next((i for i in range(len(rows) + 1) if sum(bool(WORD.search(r)) for r in rows[:i]) >= count), len(rows))
    return replace(lyric, lines="\n".join(rows[:at])), replace(lyric, lines="\n".join(rows[at:]))


def merge_singing(song: Song, left: Section, right: Section) -> Song:
    """The song, in which two sections became one under the id of the left one, with the words, moments and takes of both."""
    merged = song.section_by_id[left.id]
    count = max(len(left.lyrics), len(right.lyrics))
    lyrics = tuple(_joined(left, right, i) for i in range(count))
    words = len(WORD.findall(left.lyrics[min(left.lyric, len(left.lyrics) - 1)].lines)) if left.lyrics else 0
    wanted = tuple(p for p in VOICE_PARTS if p in left.wanted or p in right.wanted)
    moments = (*left.moments, *(replace(m, word=m.word + words) for m in right.moments))
    at = left.lyric if left.lyrics else right.lyric
    longest = max((len(x.lines) for x in lyrics), default=0)
    if longest > MAX_LYRIC or len(moments) > MAX_MOMENTS:
        raise EditError(
            f"{left.name} and {right.name} together have words of {longest:,} characters and {len(moments)} moments; "
            f"a section takes {MAX_LYRIC:,} and {MAX_MOMENTS}. Take some out first."
        )
    merged = replace(merged, lyrics=lyrics, lyric=at, moments=moments, wanted=wanted)
    alone = replace(song, sections=(left,))
    span = timeline(alone).span_of(left.id)
    takes = [t for t in song.takes if t.section_id != right.id]
    for take in (t for t in song.takes if t.section_id == right.id):
        high = take.high_ticks + span.length_ticks if take.high_ticks else 0
        moved = replace(
            take, section_id=left.id, zero_s=max(-MAX_SAMPLE_S, take.zero_s - span.length_seconds), low_ticks=take.low_ticks + span.length_ticks, high_ticks=high
        )  # fmt: skip
        same = next((i for i, t in enumerate(takes) if _same(t, moved)), None)
        if same is None:
            takes.append(moved)
        else:  # it was one take before the section was split
            takes[same] = replace(
                takes[same],
                low_ticks=min(takes[same].low_ticks, moved.low_ticks),
                high_ticks=max(takes[same].high_ticks, high),
            )
    return replace(song.with_section(merged), takes=tuple(takes))


def _same(a: Take, b: Take) -> bool:
    return (a.content, a.voice, a.section_id) == (b.content, b.voice, b.section_id) and abs(
        a.zero_s - b.zero_s
    ) < SAME_S


def _joined(left: Section, right: Section, number: int) -> Lyric:
    """A version of the words of both; where one has fewer versions, its last one."""
    both = [s.lyrics[min(number, len(s.lyrics) - 1)] for s in (left, right) if s.lyrics]
    return replace(both[0], lines="\n".join(x.lines for x in both if x.lines))
