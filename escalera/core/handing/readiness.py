"""What is not ready to be handed over, or risky: a rule a row, each point with its remedy."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from escalera.core.document.song import Song
from escalera.core.joins import played
from escalera.core.palette.bank import bank_program
from escalera.core.reading.rights import used_samples
from escalera.core.reading.timeline import timeline
from escalera.lazy_dataclasses import dataclass

GENERIC = re.compile(
    r"(?i)^(layer|track|audio|instrument|untitled|new|copy|pad|lead|bass|synth|sample|loop|take)?[\s_-]*\d*$"
)
MIDI_CHANNELS = 15


@dataclass(frozen=True, slots=True)
class Point:
    """Something missing or risky: what, and what to do; `layer_id` and `section_id` say where, 0 for the whole song."""

    rule: str
    said: str
    remedy: str
    layer_id: int = 0
    section_id: int = 0


Found = tuple[str, str] | tuple[str, str, int] | tuple[str, str, int, int]  # said, remedy, layer, section
READY: dict[str, Callable[[Song], Iterator[Found]]] = {}


def rule(key: str) -> Callable[[Callable[[Song], Iterator[Found]]], Callable[[Song], Iterator[Found]]]:
    """Register a function as the rule `key`."""

    def register(find: Callable[[Song], Iterator[Found]]) -> Callable[[Song], Iterator[Found]]:
        READY[key] = find
        return find

    return register


def not_ready(song: Song) -> list[Point]:
    """All points, in the order of the rules."""
    return [Point(key, *found) for key, find in READY.items() for found in find(song)]


@rule("not cleared")
def _not_cleared(song: Song) -> Iterator[Found]:
    for used in used_samples(song):
        if used.open_point:
            yield (
                used.open_point,
                "Settle it with its owner and note the licence, or play another recording.",
            )


@rule("names")
def _names(song: Song) -> Iterator[Found]:
    seen: dict[str, str] = {}
    for x in song.layers:
        if GENERIC.match(x.name.strip()):
            yield (
                f"“{x.name}” says nothing to somebody who has only the file.",
                "Name it by what it plays.",
                x.id,
            )
        if x.name.strip().casefold() in seen:
            yield (f"Two layers are called {x.name}.", "Give one of them another name.", x.id)
        seen[x.name.strip().casefold()] = x.name
    names = [s.name.strip().casefold() for s in song.sections]
    for s in song.sections:
        if names.count(s.name.strip().casefold()) > 1 and s is next(t for t in song.sections if t.name == s.name):
            yield (
                f"{names.count(s.name.strip().casefold())} sections are called {s.name}.",
                "Number them, so that one can speak of each.",
                0,
                s.id,
            )


@rule("reasons")
def _reasons(song: Song) -> Iterator[Found]:
    missing = [x for x in song.layers if not x.reason and not x.muted]
    if missing:
        names = ", ".join(x.name for x in missing[:4]) + (f" and {len(missing) - 4} more" if len(missing) > 4 else "")
        yield (
            f"{len(missing)} layers do not say what they are there for: {names}.",
            "Write a line for each, or leave it: a mixer will ask.",
            missing[0].id,
        )


@rule("empty")
def _empty(song: Song) -> Iterator[Found]:
    placed = {p.layer_id for s in played(song).sections for p in s.placements}
    for x in song.layers:
        if x.id not in placed and not x.muted:
            yield (f"{x.name} plays nowhere, and gets no file.", "Take it out, or lay it in.", x.id)


@rule("muted")
def _muted(song: Song) -> Iterator[Found]:
    for x in song.layers:
        if x.muted and not x.aside:
            yield (
                f"{x.name} is muted, and is not handed over.",
                "Let it sound, or set it aside with the reason.",
                x.id,
            )


@rule("not printed")
def _not_printed(song: Song) -> Iterator[Found]:
    for x in song.layers:
        if bank_program(x.sound_key) is not None and not x.prints:
            yield (
                f"{x.name} is played by a sound bank of this machine; elsewhere a stand-in plays.",
                "Print it, so that its sound goes along.",
                x.id,
            )


@rule("stand-ins")
def _stand_ins(song: Song) -> Iterator[Found]:
    for x in song.layers:
        if x.stand_in and not x.muted:
            yield (
                f"{x.name} is still a stand-in.",
                "Exchange it for a sound of your own, or keep it on purpose.",
                x.id,
            )


@rule("sent")
def _sent(song: Song) -> Iterator[Found]:
    """What a collaborator sent is pinned; what a section does to it is still worth saying."""
    for x in song.layers:
        if x.sent_by:
            where = [s.name for s in song.sections if any(t.layer_id == x.id for t in s.treatments)]
            if where:
                yield (
                    f"{x.name} by {x.sent_by} sounds otherwise than it was sent in {', '.join(where[:3])}.",
                    "Tell them, or treat it as everywhere.",
                    x.id,
                )


@rule("takes")
def _takes(song: Song) -> Iterator[Found]:
    for s in song.sections:
        missing = [
            w for w in s.wanted if not any(t.voice == w and t.section_id == s.id and not t.aside for t in song.takes)
        ]
        if missing:
            yield (
                f"{s.name} wants {', '.join(missing[:3])}, and nobody has sung {'it' if len(missing) == 1 else 'them'}.",
                "Record it, let the program sing, or want it no more.",
                0,
                s.id,
            )


@rule("tempo")
def _tempo(song: Song) -> Iterator[Found]:
    for span in timeline(song).spans:
        if any(p.glides for p in span.tempo_points):
            yield (
                f"The tempo of {span.section.name} glides; MIDI writes it as steps of an eighth.",
                "Hand over the mix with it, or hold the tempo there.",
                0,
                span.section.id,
            )
        elif abs(span.tempo_points[0][1] - song.tempo_bpm) > 0.01:
            yield (
                f"{span.section.name} runs at {span.tempo_points[0][1]:g} bpm, the song at {song.tempo_bpm:g}.",
                "Say so to whoever works to a click; the files carry it.",
                0,
                span.section.id,
            )


@rule("not carried")
def _not_carried(song: Song) -> Iterator[Found]:
    pitched = [x for x in song.layers if not x.sound.is_drum and not x.muted and not x.clips]
    if len(pitched) > MIDI_CHANNELS:
        yield (
            f"{len(pitched)} pitched layers share the {MIDI_CHANNELS} channels of MIDI.",
            "Each has a track of its own; give them instruments there.",
        )
    tuned = next((x.name for x in pitched if abs(x.tune_cents % 100) > 0.5), "")
    remedy = "It stands in the README and the recipes; hand over stems."
    if abs(song.tuning_hz - 440.0) > 0.01:
        yield f"The song is tuned to A = {song.tuning_hz:g} Hz; MIDI and sheets do not say so.", remedy
    elif tuned:
        yield f"{tuned} is tuned between semitones; MIDI and sheets do not say so.", remedy
    recorded = [x.name for x in song.layers if x.clips and not x.muted]
    if recorded:
        yield (
            f"{', '.join(recorded[:3])}{' and others' if len(recorded) > 3 else ''} play recordings, which MIDI and sheets cannot hold.",
            "Hand over their stems, or the project with its recordings.",
        )


@rule("ending")
def _ending(song: Song) -> Iterator[Found]:
    """A song that stops dead: the last section plays to its last tick and nothing rings out."""
    if song.sections and not song.sections[-1].placements:
        yield (
            f"The last section, {song.sections[-1].name}, is silent.",
            "Take it out, or let something ring into it.",
            0,
            song.sections[-1].id,
        )


__all__ = ["READY", "Point", "not_ready"]
