"""A join to be heard with one option after another: the end of the section before, then the section with that option."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Section, Song
from escalera.core.edits.body_edits import parked_of, with_body
from escalera.core.edits.edit import section_of
from escalera.core.energy.model import arranged
from escalera.core.moves.differences import section_changes
from escalera.core.reading.timeline import timeline
from escalera.lazy_dataclasses import dataclass
from escalera.meters.loudness import loudness
from escalera.services.rendering import Rendering, wav_bytes
from escalera.sound.schedule import RATE_HZ

MOST_PAIRED = 8  # bodies of a section in the matrix of pairs
EDGE_S = 0.003  # cut at bar lines: long enough not to click, too short to be a gap


@dataclass(frozen=True, slots=True)
class OptionFigures:
    """An option in place: figures of what it does. `body_id` 0 is the body that stands there."""

    body_id: int
    name: str
    who: str
    reason: str
    energy: float
    lift: float | None
    what: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Passage:
    """`wav` begins `lead_s` before the join; `lift_lu` is how much louder the section is than what leads in, None if silent."""

    wav: bytes
    lead_s: float
    lift_lu: float | None


def in_place(song: Song, section_id: int, body_id: int) -> Song:
    """The song with an option where it would stand; 0 is as it stands. Raises EditError when the option has gone."""
    section = section_of(song, section_id)
    if not body_id:
        return song
    return with_body(song, section, parked_of(section, body_id))


def heard_options(song: Song, section: Section) -> list[OptionFigures]:
    """The body that stands there, then the parked ones, each with its energy, its step up from the section before, and what it changes."""
    rows = [(0, section.body_name or "as it is", section.body_who, "")]
    rows += [(p.id, p.name, p.who, p.reason) for p in section.parked]
    found, index = [], song.index_of(section.id)
    for body_id, name, who, reason in rows:
        there = in_place(song, section.id, body_id)
        sections = arranged(there).sections
        lift = sections[index].value - sections[index - 1].value if index else None
        what = [line for change in section_changes(song, there) for line in change.what if change.name == section.name]
        found.append(OptionFigures(body_id, name, who, reason, sections[index].value, lift, tuple(what)))
    return found


@dataclass(frozen=True, slots=True)
class PairFigures:
    """Two bodies of neighbouring sections beside each other: their ids (0 is what stands), and the jump in energy between them."""

    before_id: int
    body_id: int
    jump: float


def paired_options(
    song: Song, section: Section
) -> tuple[list[tuple[int, str]], list[tuple[int, str]], list[list[PairFigures]]]:
    """Names of the bodies of the section before and of this one, and a row of pairs for each of the first; empty for the first section."""
    index = song.index_of(section.id)
    if not index:
        return [], [], []
    left = song.sections[index - 1]
    names = [
        [(0, s.body_name or "as it is"), *((p.id, p.name) for p in s.parked)][:MOST_PAIRED] for s in (left, section)
    ]
    values = [
        [arranged(in_place(song, s.id, body_id)).of(s.id).value for body_id, _ in row]
        for s, row in zip((left, section), names)
    ]
    rows = [
        [PairFigures(a, b, there - here) for (b, _), there in zip(names[1], values[1])]
        for (a, _), here in zip(names[0], values[0])
    ]
    return names[0], names[1], rows


def passage(rendering: Rendering, song: Song, section_id: int, lead_bars: int, bars: int) -> Passage:
    """The last bars before a section and its first ones as they sound in the mix, at the gain of the song.

    No loudness is evened out, neither here nor between options: what lifts more is heard to lift more.
    """
    line, index = timeline(song), song.index_of(section_id)
    keys, starts = rendering.renderer.chunk_keys(song, line), line.samples(RATE_HZ)
    lead = np.zeros((2, 0), np.float32)
    if index and lead_bars:
        before = rendering.renderer.chunk(song, line, index - 1, keys[index - 1])
        lead = before[:, _edge(song, index - 1, -lead_bars) :]
    after = rendering.renderer.chunk(song, line, index, keys[index])
    after = after[:, : min(_edge(song, index, bars), starts[index + 1] - starts[index])]
    lift = None
    if lead.shape[1]:
        quiet, loud = (loudness(part, RATE_HZ).integrated_lufs for part in (lead, after))
        lift = float(loud - quiet) if np.isfinite(loud - quiet) else None
    return Passage(wav_bytes(smoothed(np.concatenate((lead, after), axis=1))), lead.shape[1] / RATE_HZ, lift)


def _edge(song: Song, index: int, bar: int) -> int:
    """Sample of a bar line in a section, counted from its start; negative bars count from its end."""
    span = timeline(song).spans[index]
    bars = span.section.bars
    at = max(0, bars + bar) if bar < 0 else min(bars, bar)
    seconds = span.seconds_at(span.bar_ticks[at]) - span.seconds_at(span.bar_ticks[0])
    return round(seconds * RATE_HZ)


def smoothed(audio: NDArray[np.float32]) -> NDArray[np.float32]:
    """The first and last moment faded, so that a cut at a bar line does not click."""
    edge = min(round(EDGE_S * RATE_HZ), audio.shape[1] // 2)
    ramp = np.linspace(0.0, 1.0, edge, dtype=np.float32)
    audio[:, :edge] *= ramp
    audio[:, audio.shape[1] - edge :] *= ramp[::-1]
    return audio


__all__ = ["OptionFigures", "Passage", "heard_options", "in_place", "paired_options", "passage", "smoothed"]
