"""Figures of arranging: suggestions, and whether moves do to the rendered sound what they promise on paper."""

from __future__ import annotations

import statistics

from benchmarks.table import row, seconds
from escalera.core.checks import run_checks
from escalera.core.checks.fixes import mends
from escalera.core.document.song import Section, Song
from escalera.core.edits import EDITS
from escalera.core.energy.model import arranged
from escalera.core.ideas import Idea, cut_section, fits
from escalera.core.moves import KINDS, Move, apply_move
from escalera.core.moves.differences import section_changes, song_changes
from escalera.core.moves.option_text import AddOptions, read_options
from escalera.core.moves.suggestions import suggest, suggest_song
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError
from escalera.services.demo import demo_songs
from escalera.services.passages import heard_options
from escalera.services.rendering import Rendering, measured_section
from escalera.sound.measurement import measure_section

SEEN = 0.1  # points from which a promised change has to be measured
TRIED = 1  # so that the whole run stays within five minutes


def arranging(song: Song) -> None:
    judgement(song)
    choices(song)
    suggestions(song)
    promises()


def judgement(song: Song) -> None:
    """All checks after an edit that touches one section, and one that touches all, once its energy is shown; mends."""
    run_checks(song)
    first = song.layers[0].id
    one = [
        EDITS["lift"](s.id, first, 0).apply(song)
        for s in song.sections
        if any(p.layer_id == first for p in s.placements)
    ]
    edited = [EDITS["set_control"](first, "level_db", -11.0 - i).apply(song) for i in range(8)]
    for name, songs in (("in one section", one), ("in every section", edited)):
        for each in songs:
            arranged(each)
        row(
            f"all checks after an edit {name}",
            1000 * statistics.median(seconds(lambda s=s: run_checks(s)) for s in songs),
            40,
            "ms",
        )
    arranged(edited[-1])
    both = (song, edited[-1])
    row("comparing two states", 1000 * seconds(lambda: (song_changes(*both), section_changes(*both))), 50, "ms")
    placed = next(f for f in run_checks(song) if f.place)
    row("mends of a finding, each tried on a copy", 1000 * seconds(lambda: mends(song, placed)), 1000, "ms")


def choices(song: Song) -> None:
    """Options said for a loud section, and forty parked ideas asked about the whole song."""
    chorus = next(s for s in song.sections if s.role == "chorus")
    said = "one no drums two half time three only bass and chords four as in Verse 1 five no kick six 4 bars"
    row("six options read as they are said", 1000 * seconds(lambda: read_options(song, chorus.id, said)), 300, "ms")
    with_options = AddOptions(chorus.id, said).apply(song)
    section = with_options.section_by_id[chorus.id]
    row("six options with what each does", 1000 * seconds(lambda: heard_options(with_options, section)), 300, "ms")
    small = cut_section(song, song.sections[1].id)
    ideas = [
        Idea(i, "section", small.title, "", small) if i % 2 else Idea(i, "text", "the last chorus an octave up")
        for i in range(40)
    ]
    row("forty parked ideas offered to the song", 1000 * seconds(lambda: fits(song, ideas)), 300, "ms")


def suggestions(song: Song) -> None:
    arranged(song)
    times = [seconds(lambda s=section: suggest(song, s.id)) for section in song.sections]
    row("suggestions for a section, slowest of all", 1000 * max(times), 300, "ms")
    row("suggestions for the whole song", 1000 * seconds(lambda: suggest_song(song)), 300, "ms")


def _measured(rendering: Rendering, song: Song, section_id: int) -> float:
    line = timeline(song)
    index = song.index_of(section_id)
    key = rendering.renderer.chunk_keys(song, line)[index]
    heard = measure_section(rendering.renderer, song, line, index, key)
    return measured_section(song, line.spans[index], heard.meters).value


def _candidates(songs: list[Song], kind: str) -> list[tuple[Song, Section, Move, float]]:
    """A few places where a kind of move promises to change its section."""
    found = []
    for song in songs:
        for section in song.sections:
            for move in list(KINDS[kind](song, section))[:1]:
                try:
                    after = apply_move(song, move)
                except EditError:
                    continue
                points = arranged(after).of(section.id).value - arranged(song).of(section.id).value
                if abs(points) >= SEEN:
                    found.append((song, section, move, points))
    return sorted(found, key=lambda r: -abs(r[3]))[:TRIED]


def promises() -> None:
    """Kinds of moves for which the measured energy of the section shifts the promised way, in most of the places tried."""
    rendering, songs, kept, told = Rendering(600), demo_songs(), 0, 0
    for kind in KINDS:
        rows = _candidates(songs, kind)
        if not rows:
            print(f"    {kind:18} promises no change of its own section")
            continue
        right = 0
        shifts = []
        for song, section, move, points in rows:
            shift = _measured(rendering, apply_move(song, move), section.id) - _measured(rendering, song, section.id)
            right += shift * points > 0
            shifts.append(f"{points:+.1f} promised {shift:+.1f} measured")
        told += 1
        kept += right * 2 > len(rows)
        print(f"    {kind:18} {right} of {len(rows)}: {'; '.join(shifts)}", flush=True)
    row(f"kinds of moves that measure as promised, of {told}", kept, 25, "", True)
    rendering.close()
