"""Edits of grooves: written, placed and varied as one; swing; the user's own words."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from escalera.core.document.bodies import each_body, on_all_bodies
from escalera.core.document.limits import MAX_GROOVES, MAX_NOTES
from escalera.core.document.names import clean_name
from escalera.core.document.song import Groove, Ids, NamedPattern, Placement, Section, Song
from escalera.core.edits.edit import edit, one_of, section_of, whole_number, within
from escalera.core.edits.groove_reach import WHERE, sections_meant
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.palette.sounds import BY_KEY, DRUM_SOUND
from escalera.core.reading.groove_reading import drum_layers, groove_beat, phrase_beat, plays_alike
from escalera.core.reading.placements import cleared, joined, span_ticks, without_patterns
from escalera.core.reading.timeline import section_metres, timeline
from escalera.core.rhythm.beat import RANK, Beat, Hit, beat, patterns_of, tiled
from escalera.core.rhythm.beat_variations import VARIATIONS, vary
from escalera.core.rhythm.performance import GRIDS, humanise, quantise
from escalera.core.rhythm.spoken_beats import parse_spoken
from escalera.core.time.metre import Metre, parse_metre
from escalera.errors import EditError

NOTES = {drum: BY_KEY[key].drum_note for drum, key in DRUM_SOUND.items()}
Hits = list[list[Any]]  # rows of tick, drum, velocity


def groove_of(song: Song, groove_id: int) -> Groove:
    """The groove with this id. EditError where it is gone."""
    try:
        return song.groove_by_id[groove_id]
    except KeyError:
        raise EditError(f"Groove {groove_id} is not in this song any more. Choose one that is.") from None


def read_hits(rows: Iterable[Iterable]) -> list[Hit]:  # type: ignore[type-arg]
    """Hits from rows of tick, drum, velocity. Raises EditError."""
    try:
        return [Hit(whole_number(t, "tick"), str(d), whole_number(v, "velocity")) for t, d, v in rows]
    except (TypeError, ValueError):
        raise EditError("A hit is a row of tick, drum and velocity. Load the page again.") from None


def new_groove(
    song: Song, name: str, played: Beat, feel: str = "", variant_of: int = 0, made: str = ""
) -> tuple[Song, Groove]:
    """The song with a groove more, its patterns its own. Raises EditError where no more grooves or notes fit."""
    if len(song.grooves) >= MAX_GROOVES:
        raise EditError(f"The song has {MAX_GROOVES} grooves, and no more fit. Remove one that is not used.")
    ids = Ids(song.next_id)
    taken = {g.name for g in song.grooves}
    name, number = clean_name(name), 2
    free = name
    while free in taken:
        free, number = f"{name} {number}", number + 1
    groove = Groove(ids(), free, feel[:40], variant_of, made)
    song = replace(song, grooves=(*song.grooves, groove), next_id=ids.next_id)
    return write_groove(song, groove, played)


def write_groove(song: Song, groove: Groove, played: Beat) -> tuple[Song, Groove]:
    """The groove playing another beat, everywhere it is used. A drum more is placed wherever the groove plays.

    Raises EditError where the song would hold too many notes.
    """
    wanted, ids = patterns_of(played, NOTES), Ids(song.next_id)
    parts, patterns = dict(groove.parts), {p.id: p for p in song.patterns}
    old = dict(parts)
    for drum, pattern in wanted.items():
        if drum in parts:
            patterns[parts[drum]] = replace(patterns[parts[drum]], pattern=pattern)
        else:
            parts[drum] = ids()
            patterns[parts[drum]] = NamedPattern(parts[drum], f"{groove.name}: {drum}", "drums", pattern)
    for drum in old.keys() - wanted.keys():
        del patterns[parts.pop(drum)]
    ordered = tuple(sorted(parts.items(), key=lambda row: RANK[row[0]]))
    changed = replace(groove, parts=ordered)
    song = replace(
        song,
        patterns=tuple(patterns.values()),
        next_id=ids.next_id,
        grooves=tuple(changed if g.id == groove.id else g for g in song.grooves),
    )
    if song.note_count > MAX_NOTES:
        raise EditError(f"The song would have {song.note_count:,} notes; at most {MAX_NOTES:,} fit. Use fewer bars.")
    return _replaced(song, old, changed), changed


def _replaced(song: Song, old: dict[str, int], groove: Groove) -> Song:
    """Placements follow a groove whose drums changed."""
    parts = dict(groove.parts)
    gone, fresh = {old[d] for d in old.keys() - parts.keys()}, [d for d in parts if d not in old]

    def follow(flat: Song) -> Song:
        spans = {
            s.id: {(p.start_ticks, p.end_ticks, p.offset_ticks) for p in s.placements if p.pattern_id in old.values()}
            for s in flat.sections
        }
        if gone:
            flat = each_body(flat, lambda s: without_patterns(s, gone))
        for section_id, found in spans.items():
            for low, high, offset in sorted(found):
                flat = _place_parts(flat, section_id, {d: parts[d] for d in fresh}, low, high, offset)
        return flat

    return on_all_bodies(song, follow)


def _place_parts(song: Song, section_id: int, parts: dict[str, int], low: int, high: int, offset: int) -> Song:
    for drum, pattern_id in parts.items():
        song, layer_id = with_drum(song, drum)
        ids, section = Ids(song.next_id), song.section_by_id[section_id]
        rest = cleared(section.placements, layer_id, low, high, ids)
        placed = Placement(ids(), layer_id, pattern_id, low, high, offset)
        song = replace(song.with_section(replace(section, placements=joined([*rest, placed]))), next_id=ids.next_id)
    return song


def with_drum(song: Song, drum: str) -> tuple[Song, int]:
    """The song with a layer for a drum, and its id."""
    known = drum_layers(song)
    if drum in known:
        return song, known[drum].id
    before = {x.id for x in song.layers}
    song = AddLayer(DRUM_SOUND[drum]).apply(song)
    return song, next(x.id for x in song.layers if x.id not in before)


def placed(song: Song, section: Section, groove: Groove, low: int, high: int) -> Song:
    """The groove on a span; every other drum is silent there."""
    drums = {layer.id for layer in song.layers if layer.sound.is_drum}
    ids = Ids(song.next_id)
    placements = list(section.placements)
    for layer_id in sorted(drums):
        placements = cleared(placements, layer_id, low, high, ids)
    song = replace(song.with_section(replace(section, placements=joined(placements))), next_id=ids.next_id)
    length = max((song.pattern_by_id[i].pattern.length_ticks for _, i in groove.parts), default=1)
    return _place_parts(song, section.id, dict(groove.parts), low, high, low % length)


def _spans(song: Song, section: Section, phrase: int | None) -> tuple[int, int]:
    return span_ticks(song, section, phrase, None, None)


def _fits(song: Song, played: Beat, section: Section, low: int, high: int, what: str) -> None:
    if played.length_ticks > high - low:
        bar = section_metres(section, song.metre)[0].bar_ticks
        raise EditError(
            f"{what} has {played.length_ticks / bar:g} bars, longer than the "
            f"{(high - low) / bar:g} of this place. Take a shorter one, or place it in a longer "
            f"phrase."
        )


@edit("add_groove", "layers notes placements options")
class AddGroove:
    """Bring a beat into the song as a groove, and place it in a section or phrase if one is named."""

    name: str
    length_ticks: int
    hits: Hits
    feel: str = ""
    variant_of: int = 0
    section_id: int | None = None
    phrase: int | None = None

    def apply(self, song: Song) -> Song:
        section = None if self.section_id is None else section_of(song, self.section_id)
        played = beat(self.length_ticks, metre_of(song, section), read_hits(self.hits))
        if not played.hits:
            raise EditError("The beat is empty. Say, tap or draw at least one hit.")
        song, groove = new_groove(song, self.name, played, self.feel, self.variant_of)
        return PlaceGroove(groove.id, section.id, self.phrase).apply(song) if section else song

    def summary(self, song: Song) -> str:
        return f"Groove {clean_name(self.name)}" + at_words(song, self.section_id, self.phrase)


def metre_of(song: Song, section: Section | None) -> Metre:
    """The time signature a section begins in, or the song's."""
    return section_metres(section, song.metre)[0] if section else song.metre


def at_words(song: Song, section_id: int | None, phrase: int | None) -> str:
    """Where something is done, as the end of a sentence for the history; '' for nowhere."""
    if section_id is None:
        return ""
    return f" in {section_of(song, section_id).name}" + ("" if phrase is None else f", phrase {phrase + 1}")


@edit("place_groove", "layers placements")
class PlaceGroove:
    """Let a section, one phrase of it, all sections like it, or all that have drums play a groove; other drums are silent there."""

    groove_id: int
    section_id: int
    phrase: int | None = None
    where: str = "here"

    def apply(self, song: Song) -> Song:
        section, groove = section_of(song, self.section_id), groove_of(song, self.groove_id)
        if one_of(self.where, list(WHERE), "reach") != "here":
            for other in sections_meant(song, section, self.where):
                song = placed(song, other, groove, *_spans(song, other, None))
            return song
        low, high = _spans(song, section, self.phrase)
        _fits(song, groove_beat(song, groove, metre_of(song, section)), section, low, high, groove.name)
        return placed(song, section, groove, low, high)

    def summary(self, song: Song) -> str:
        name = f"Groove {groove_of(song, self.groove_id).name}"
        return (
            f"{name} {WHERE[self.where]}"
            if self.where != "here"
            else name + at_words(song, self.section_id, self.phrase)
        )


@edit("adopt_groove", "layers notes placements options")
class AdoptGroove:
    """Take what the drums play in a phrase as a groove, in every phrase that plays exactly that."""

    section_id: int
    phrase: int
    name: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        _spans(song, section, self.phrase)
        return on_all_bodies(song, self._adopted)

    def _adopted(self, song: Song) -> Song:
        line, section = timeline(song), section_of(song, self.section_id)
        here = (line.span_of(section.id), self.phrase)
        wanted = phrase_beat(song, *here)
        if not wanted.hits:
            raise EditError(f"The drums are silent in this phrase of {section.name}. Say, tap or draw a beat first.")
        alike = [
            (s.section.id, i)
            for s in line.spans
            for i in range(len(s.section.phrases))
            if plays_alike(song, here, (s, i))
        ]
        song, groove = new_groove(song, self.name or f"Beat of {section.name}", wanted)
        for section_id, phrase in alike:
            there = song.section_by_id[section_id]
            low, high = _spans(song, there, phrase)
            if wanted.length_ticks <= high - low:
                song = placed(song, there, groove, low, high)
        return song

    def summary(self, song: Song) -> str:
        return f"Groove {self.name or 'taken'} from {section_of(song, self.section_id).name}, phrase {self.phrase + 1}"


@edit("set_groove", "layers notes placements options")
class SetGroove:
    """Write a groove anew, everywhere it is used."""

    groove_id: int
    length_ticks: int
    hits: Hits

    def apply(self, song: Song) -> Song:
        groove = groove_of(song, self.groove_id)
        played = beat(self.length_ticks, groove_beat(song, groove).metre, read_hits(self.hits))
        if not played.hits:
            raise EditError(f"{groove.name} would be empty. Lift it from the wall instead.")
        return write_groove(song, groove, played)[0]

    def summary(self, song: Song) -> str:
        return f"Groove {groove_of(song, self.groove_id).name} changed"


@edit("say_groove", "layers notes placements options")
class SayGroove:
    """Write a groove as a spoken beat, everywhere it is used; hits that stay keep their velocity."""

    groove_id: int
    spoken: str
    metre: str = ""

    def apply(self, song: Song) -> Song:
        groove = groove_of(song, self.groove_id)
        metre = parse_metre(self.metre) if self.metre else song.metre
        before = groove_beat(song, groove, metre).at
        said = parse_spoken(self.spoken, metre, dict(song.words))
        return write_groove(song, groove, said.with_hits(before.get((h.drum, h.tick), h) for h in said.hits))[0]

    def summary(self, song: Song) -> str:
        return f"Groove {groove_of(song, self.groove_id).name}: {self.spoken}"[:120]


@edit("set_hit", "layers notes placements options")
class SetHit:
    """Set one hit of a groove, louder or softer, or (velocity 0) take it away."""

    groove_id: int
    drum: str
    tick: int
    velocity: int = 100

    def apply(self, song: Song) -> Song:
        groove = groove_of(song, self.groove_id)
        one_of(self.drum, list(RANK), "drum")
        within(self.velocity, 0, 127, "A velocity of")
        played = groove_beat(song, groove)
        rest = [h for h in played.hits if (h.drum, h.tick) != (self.drum, self.tick)]
        hits = [*rest, Hit(self.tick, self.drum, self.velocity)] if self.velocity else rest
        if not hits:
            raise EditError(f"This is the last hit of {groove.name}. Lift the groove from the wall instead.")
        return write_groove(song, groove, beat(played.length_ticks, played.metre, hits))[0]

    def summary(self, song: Song) -> str:
        what = f"{self.drum} at beat {self.tick / 960 + 1:.4g}"
        return f"{groove_of(song, self.groove_id).name}: {what} {f'at {self.velocity}' if self.velocity else 'out'}"


@edit("stretch_groove", "layers notes placements options")
class StretchGroove:
    """Give a groove another number of bars: it goes on as before, or is cut."""

    groove_id: int
    bars: int

    def apply(self, song: Song) -> Song:
        groove = groove_of(song, self.groove_id)
        bars = int(within(self.bars, 1, 16, "A groove of", "bars"))
        played = groove_beat(song, groove)
        return write_groove(song, groove, tiled(played, bars * played.metre.bar_ticks))[0]

    def summary(self, song: Song) -> str:
        return f"Groove {groove_of(song, self.groove_id).name}: {self.bars} bars"


def made_longer(groove: Groove | None, done: str) -> str:
    """The history of a groove with one thing more that was done to it."""
    return "; ".join(x for x in ((groove.made if groove else ""), done) if x)[-200:].strip("; ")


def variant_name(song: Song, root: Groove) -> str:
    """A short name of a variant: the groove's own with the next letter; what was done to it stands in its history."""
    taken = {g.name for g in song.grooves}
    base = root.name[:72]
    letters = (f"{base} {chr(code)}" for code in range(ord("B"), ord("Z") + 1))
    return next((name for name in letters if name not in taken), f"{base} {len(song.grooves) + 1}")


def _varied(song: Song, groove_id: int, change: Callable[[Beat], Beat]) -> tuple[Groove, Beat]:
    groove = groove_of(song, groove_id)
    before = groove_beat(song, groove)
    after = change(before)
    if not after.hits or after == before:
        raise EditError(
            f"That would leave {groove.name} {'empty' if not after.hits else 'as it is'}. Try another variation."
        )
    return groove, after


@edit("vary_groove", "layers notes placements options")
class VaryGroove:
    """Make a variant of a groove as a drummer would, kept beside it; it plays in the named place."""

    groove_id: int
    variation: str
    section_id: int | None = None
    phrase: int | None = None

    def apply(self, song: Song) -> Song:
        one_of(self.variation, list(VARIATIONS), "variation")
        groove, after = _varied(song, self.groove_id, lambda b: vary(self._whole(song, b), self.variation))
        root = groove_of(song, groove.variant_of) if groove.variant_of in song.groove_by_id else groove
        done = made_longer(groove, VARIATIONS[self.variation].label.lower())
        song, made = new_groove(song, variant_name(song, root), after, groove.feel, root.id, done)
        return PlaceGroove(made.id, self.section_id, self.phrase).apply(song) if self.section_id is not None else song

    def _whole(self, song: Song, played: Beat) -> Beat:
        """The beat as long as its phrase, where the variation is meant once in it: a crash on the one is no crash in every bar."""
        if self.section_id is None or self.phrase is None or not VARIATIONS[self.variation].once:
            return played
        section = section_of(song, self.section_id)
        low, high = span_ticks(song, section, self.phrase, None, None)
        long = min(high - low, 16 * played.metre.bar_ticks)
        return tiled(played, long) if played.length_ticks < long and long % played.length_ticks == 0 else played

    def summary(self, song: Song) -> str:
        return f"{groove_of(song, self.groove_id).name}: {VARIATIONS[self.variation].label.lower()}" + at_words(
            song, self.section_id, self.phrase
        )


@edit("time_groove", "layers notes placements options")
class TimeGroove:
    """Move the hits of a groove toward a grid by an amount, or a little by chance (the same seed, the same beat)."""

    groove_id: int
    grid: str = ""
    amount: float = 1.0
    humanise_ms: float = 0.0
    seed: int = 1

    def apply(self, song: Song) -> Song:
        def change(played: Beat) -> Beat:
            if self.grid:
                played = quantise(
                    played, GRIDS[one_of(self.grid, list(GRIDS), "grid")], within(self.amount, 0, 1, "An amount of")
                )
            return (
                humanise(played, within(self.humanise_ms, 0, 40, "Chance of", "ms"), song.tempo_bpm, self.seed)
                if self.humanise_ms
                else played
            )

        groove, after = _varied(song, self.groove_id, change)
        return write_groove(song, groove, after)[0]

    def summary(self, song: Song) -> str:
        how = f"toward {self.grid} by {100 * self.amount:.0f} %" if self.grid else f"{self.humanise_ms:g} ms by chance"
        return f"Timing of {groove_of(song, self.groove_id).name}: {how}"


@edit("rename_groove", "notes")
class RenameGroove:
    """Give a groove another name."""

    groove_id: int
    name: str

    def apply(self, song: Song) -> Song:
        groove, name = groove_of(song, self.groove_id), clean_name(self.name)
        if any(g.name == name and g.id != groove.id for g in song.grooves):
            raise EditError(f"Another groove is called “{name}”. Take another name.")
        return replace(song, grooves=tuple(replace(g, name=name) if g.id == groove.id else g for g in song.grooves))

    def summary(self, song: Song) -> str:
        return f"Groove {groove_of(song, self.groove_id).name} is now called {clean_name(self.name)}"


@edit("remove_groove", "notes placements options")
class RemoveGroove:
    """Take a groove out of the song; where it plays, its drums fall silent."""

    groove_id: int

    def apply(self, song: Song) -> Song:
        groove = groove_of(song, self.groove_id)
        gone = {i for _, i in groove.parts}
        rest = tuple(
            replace(g, variant_of=0) if g.variant_of == groove.id else g for g in song.grooves if g.id != groove.id
        )
        layers = tuple(replace(x, pattern_id=0) if x.pattern_id in gone else x for x in song.layers)
        return replace(
            each_body(song, lambda s: without_patterns(s, gone)),
            grooves=rest,
            layers=layers,
            patterns=tuple(p for p in song.patterns if p.id not in gone),
        )

    def summary(self, song: Song) -> str:
        return f"Groove {groove_of(song, self.groove_id).name} removed"
