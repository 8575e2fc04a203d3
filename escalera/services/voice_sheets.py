"""Words to take away: the lyric with its bars, and a sheet for singers with chords, notes, breaths and who sings what."""

from __future__ import annotations

from escalera.core.document.song import Song
from escalera.core.reading.section_harmony import section_harmony
from escalera.core.reading.timeline import Span, timeline
from escalera.core.time.ticks import clock
from escalera.core.voices.next_voice import place_said
from escalera.core.voices.voice_stack import NOT_WANTED, singer_range, stack_of
from escalera.core.voices.word_places import lines_of, lyric_of, words_laid


def lyric_sheet(song: Song) -> str:
    """The words of a song as they are sung, every line with the bar and beat at which it begins."""
    rows = [song.title, f"{song.tempo_bpm:g} bpm, {song.metre}, {song.key}", ""]
    for span in timeline(song).spans:
        lines = lines_of(song, span.section)
        if not lines:
            continue
        lyric = lyric_of(span.section)
        version = f" · {lyric.name}" if lyric and len(span.section.lyrics) > 1 else ""
        rows.append(
            f"{span.section.name} (bars {span.first_bar} to {span.last_bar}, {clock(span.start_seconds)}){version}"
        )
        starts = {id(p.line): place_said(span, p.start) for p in words_laid(song, span).lines}
        rows += [f"  {starts.get(id(line), '–'):>7}  {line.text}  [{line.syllables}]" for line in lines]
        rows.append("")
    return "\n".join(rows).rstrip() + "\n"


def singers_sheet(song: Song) -> str:
    """What singers need: key, range, and for every section the chords, who sings, and the words in syllables with their notes."""
    found = singer_range(song)
    rows = [
        song.title,
        f"{song.tempo_bpm:g} bpm, {song.metre}, {song.key}" + (f"; range {found.said(song.key)}" if found else ""),
        "",
    ]
    for span in timeline(song).spans:
        voices = [f"{s.part.key} ({s.state})" for s in stack_of(song, span.section) if s.state != NOT_WANTED]
        lines = _sung(song, span)
        if lines:
            harmony = section_harmony(song, span)
            chords = " ".join(dict.fromkeys(str(c) for c in harmony.chords))
            rows += [
                f"{span.section.name} (bars {span.first_bar} to {span.last_bar}): {', '.join(voices)}",
                f"  chords: {chords}",
                *lines,
                "",
            ]
    return "\n".join(rows).rstrip() + "\n"


def _sung(song: Song, span: Span) -> list[str]:
    key = section_harmony(song, span).key
    laid = words_laid(song, span)
    rows = []
    for index, place in enumerate(laid.lines):
        mine = [p for p in laid.places if p.line == index]
        sung = "".join(f"{p.text}({key.pitch_name(p.pitch)}){' ' if p.last else '-'}" for p in mine).rstrip()
        rows.append(f"  {place_said(span, place.start):>7}  {sung}")
    return rows + [f"        –  {line.text}" for line in laid.unplaced]
