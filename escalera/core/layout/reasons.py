"""Why a layer plays in a section, or does not, in a sentence each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from escalera.core.bench.seats import MELODIC, Seat
from escalera.core.document.song import Section, Song
from escalera.core.layout.material import WAYS
from escalera.core.layout.plans import FALLING, PEAKS
from escalera.core.layout.search import Choice

LOW = ("kick", "sub", "bass")
PLAYS = {
    "kick": "gives the pulse", "snare": "marks two and four", "hat": "keeps time", "open hat": "lifts the off-beats", "percussion": "moves between the beats",
    "toms": "give it body", "ride": "opens the top", "sub": "owns the low end", "bass": "carries the roots", "chords": "carries the harmony",
    "wide": "makes it wide", "figure": "moves through the chords", "hook": "is what stays in the ear", "counter": "answers", "lead voice": "carries the tune",
    "harmony": "thickens the voice", "place": "sets the place",
}  # fmt: skip


def reasons_of(
    song: Song, row: Sequence[Seat], choices: Mapping[int, Choice], kept: Mapping[int, int]
) -> dict[int, dict[int, str]]:
    """By section id and layer id; `kept` is the section id that a layer held back comes in."""
    found: dict[int, dict[int, str]] = {}
    order = {s.id: i for i, s in enumerate(song.sections)}
    for section in song.sections:
        if section.id in choices:
            found[section.id] = {
                seat.layer.id: _reason(song, section, seat, choices[section.id][:, i], kept, order)
                for i, seat in enumerate(row)
            }
    return found


def _reason(
    song: Song, section: Section, seat: Seat, column: Choice, kept: Mapping[int, int], order: Mapping[int, int]
) -> str:
    at = kept.get(seat.layer.id)
    if at is not None and order[section.id] < order[at]:
        return f"kept for {song.section_by_id[at].name}"
    if not column.any():
        return _absent(section, seat)
    said = f"first heard here: it was kept for {section.name}" if at == section.id else _present(section, seat)
    on = np.flatnonzero(column)
    if on[0] > 0:
        said += f"; comes in phrase {on[0] + 1}, so that something new comes"
    if on[-1] < len(column) - 1:
        said += f"; leaves after phrase {on[-1] + 1}" + (", the heavy ones first" if section.role in FALLING else "")
    way = WAYS[int(column[on[0]]) - 1]
    return said + (f"; {way.said}, so that the step stays at its height" if way.said else "")


def _present(section: Section, seat: Seat) -> str:
    if section.role in ("intro", "re-intro", "interlude") and seat.part in MELODIC:
        return "teased here, before it is heard whole"
    if section.role == "build" and seat.part not in LOW:
        return "rises into what follows"
    return PLAYS[seat.part]


def _absent(section: Section, seat: Seat) -> str:
    if section.role == "build" and seat.part in LOW:
        return "taken out, so that the low end comes back with what follows"
    if section.role == "verse" and seat.part in ("wide", "figure", "hook", "counter", "harmony"):
        return "left out, so that the voice has room"
    if section.role in ("break", "breakdown", "pre-drop", "bridge"):
        return "rests, so that its return is felt"
    if section.role in ("intro", "re-intro"):
        return "waits: there is something to come"
    if section.role in FALLING:
        return "has left: it is heavy"
    return "more than the target asks for" if section.role in PEAKS else "waits for a higher step"
