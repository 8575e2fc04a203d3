"""What the parts of a said option do to a section."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from escalera.core.document.limits import MAX_SHIFT_SEMITONES
from escalera.core.document.song import Ids, Layer, Placement, Section, Song, Variation
from escalera.core.edits.join_edits import AddDevice
from escalera.core.edits.layer_edits import AddLayer
from escalera.core.edits.section_edits import ResizeSection
from escalera.core.edits.tile_edits import CopyTiles, Lift, SetTiles
from escalera.core.moves.move import apply_move, moves_for, playing
from escalera.core.moves.option_words import SOUND_WORDS, UnknownWords, called, number_of, tokens
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.palette.sounds import BY_KEY, DRUM_SOUND, SOUNDS, Sound
from escalera.core.reading.placements import clip, joined, ordered
from escalera.core.reading.timeline import section_bar_ticks
from escalera.core.rhythm.pattern import FIXED
from escalera.errors import EditError, shown

Act = Callable[..., Song]
MUFFLED_HZ, OPEN_HZ = 600.0, 12_000.0
MOST_SEMITONES = 24


def spliced(song: Song, there: Song, section_id: int, low: int, high: int) -> Song:
    """The song as it is outside a stretch of the section, and as it is there inside."""
    before, after, ids = song.section_by_id[section_id], there.section_by_id[section_id], Ids(there.next_id)
    end = max(before.placements, key=lambda p: p.end_ticks).end_ticks if before.placements else high
    outside = [clip(p, a, b) for p in before.placements for a, b in ((0, low), (high, max(end, high))) if a < b]
    inside = [clip(p, low, high) for p in after.placements]
    kept = joined(replace(p, id=ids()) for p in (*outside, *inside) if p)
    return replace(there.with_section(replace(after, placements=kept)), next_id=ids.next_id)


# parts --------------------------------------------------------------------------------------------------------------------


def section_of_id(song: Song, section_id: int) -> Section:
    """The section as it is in this state."""
    return song.section_by_id[section_id]


def without(song: Song, section: Section, words: str) -> Song:
    """The section with some layers silent."""
    here = {x.id for x in playing(song, section)}
    for layer in called(song, words):
        if layer.id in here:
            song = Lift(section.id, layer.id).apply(song)
    return song


def only(song: Song, section: Section, words: str) -> Song:
    """The section with some layers alone; those that are silent there come in."""
    kept = {x.id for x in called(song, words)}
    if not kept & {x.id for x in playing(song, section)}:
        song = with_them(song, section, words)
    for layer in playing(song, section_of_id(song, section.id)):
        if layer.id not in kept:
            song = Lift(section.id, layer.id).apply(song)
    return song


def with_them(song: Song, section: Section, words: str) -> Song:
    """The section with some layers in every phrase. Raises EditError where they have nothing to play."""
    phrases = range(len(section.phrases))
    able = [x for x in called(song, words) if _has_something(song, x)]
    if not able:
        raise EditError(f"“{shown(words)}” has nothing to play yet. Write a line or a beat for it first.")
    cells = [[section.id, x.id, phrase] for x in able for phrase in phrases]
    return SetTiles(cells).apply(song) if _lacks(song, section, able) else song


def _lacks(song: Song, section: Section, layers: Sequence[Layer]) -> bool:
    """Whether some phrase of the section is without one of the layers."""
    bars = section_bar_ticks(section, song.metre)
    edges = [bars[sum(section.phrases[:i])] for i in range(len(section.phrases))]
    return any(
        not any(p.layer_id == x.id and p.start_ticks <= edge < p.end_ticks for p in section.placements)
        for x in layers
        for edge in edges
    )


def all_but(song: Song, section: Section, words: str) -> Song:
    """Everybody but some."""
    return without(everybody(song, section), section_of_id(song, section.id), words)


def nothing(song: Song, section: Section) -> Song:
    """The section in which nothing plays."""
    return song.with_section(replace(section, placements=()))


def later(song: Song, section: Section, words: str) -> Song:
    """Some layers from the middle of the section on."""
    half = section_bar_ticks(section, song.metre)[section.bars // 2]
    return spliced(song, without(song, section, words), section.id, 0, half)


def key_moved(song: Song, section: Section, way: str, step: str) -> Song:
    """The section a semitone or a tone up or down."""
    by = (1 if step.startswith(("semi", "half")) else 2) * (1 if way == "up" else -1)
    shift = section.shift_semitones + by
    if abs(shift) > MAX_SHIFT_SEMITONES:
        raise EditError(f"A key shift of {shift} semitones is more than the {MAX_SHIFT_SEMITONES} there are. Say less.")
    return song.with_section(replace(section, shift_semitones=shift))


def _has_something(song: Song, layer: Layer) -> bool:
    placed = any(p.layer_id == layer.id for s in song.sections for p in s.placements)
    return placed or layer.pattern_id in song.pattern_by_id


def everybody(song: Song, section: Section) -> Song:
    """All that play anywhere, except what only carries joins; what is muted stays so."""
    heard = {p.layer_id for s in song.sections for p in s.placements}
    cells = [
        [section.id, x.id, phrase]
        for x in song.layers
        if x.id in heard and not x.aside and x.family != "effects"
        for phrase in range(len(section.phrases))
    ]
    layers = [song.layer_by_id[x] for x in dict.fromkeys(cell[1] for cell in cells)]
    return SetTiles(cells).apply(song) if _lacks(song, section, layers) else song


def like(song: Song, section: Section, words: str | None, other: str) -> Song:
    """All layers, or some, as they play in another section."""
    source = next((s for s in song.sections if s.name.lower() == other.strip()), None)
    if source is None:
        names = ", ".join(s.name for s in song.sections[:8])
        raise EditError(f"There is no section called “{shown(other)}”. The song has: {names}.")
    if words is None:
        return CopyTiles(source.id, section.id).apply(song)
    chosen = {x.id for x in called(song, words)}
    if not any(p.layer_id in chosen for p in source.placements):  # silent there, so silent here
        return without(song, section, words)
    part = replace(source, placements=tuple(p for p in source.placements if p.layer_id in chosen))
    copied = CopyTiles(source.id, section.id).apply(song.with_section(part))
    fresh = copied.section_by_id[section.id]
    kept = [p for p in section.placements if p.layer_id not in chosen]
    placed = ordered((*kept, *fresh.placements))
    return replace(song.with_section(replace(section, placements=placed)), next_id=copied.next_id)


def bars_long(song: Song, section: Section, bars: str) -> Song:
    """The section with another length."""
    return ResizeSection(section.id, int(number_of(bars))).apply(song)


def same(song: Song, section: Section) -> Song:
    """The section as it is."""
    return song


# exchange of parts ---------------------------------------------------------------------------------------------------


def instead(song: Song, section: Section, new: str, old: str) -> Song:
    """What some layers play is played by others: those that are there with their own lines, a sound that is not with theirs."""
    gone = [x for x in called(song, old) if x.id in {y.id for y in playing(song, section)}]
    if not gone:
        raise UnknownWords(f"“{shown(old)}” does not play in {section.name}. Say what does, as the wall shows it.")
    try:
        there = with_them(song, section, new)
    except UnknownWords:
        there = _played_by(song, section, _sound_called(new, gone[0].family), gone)
    for layer in gone:
        there = Lift(section.id, layer.id).apply(there)
    return there


def _sound_called(words: str, family: str) -> Sound:
    """A sound of the palette by its words, of a family first; a drum by what it is called. Raises UnknownWords."""
    wanted = tokens(words)
    drums = {s.drum: s for s in SOUNDS if s.is_drum}
    for drum in drums:
        if wanted & tokens(drum) and wanted <= tokens(drum) | {"low", "mid", "high"}:
            return BY_KEY[DRUM_SOUND[drum]]
    found = [s for s in SOUNDS if wanted and wanted <= tokens(f"{s.label} {s.key}")]
    found = found or [s for s in SOUNDS if any(part in s.key for part in SOUND_WORDS.get(words.strip(), ()))]
    if not found:
        raise UnknownWords(f"“{shown(words)}” is no layer of this song and no sound. Choose one from all sounds.")
    return min(found, key=lambda s: s.family != family)


def _played_by(song: Song, section: Section, sound: Sound, gone: Sequence[Layer]) -> Song:
    """A new layer with a sound that plays what the first of some layers plays in the section."""
    source = next((x for x in gone if x.sound.is_drum == sound.is_drum), None)
    if source is None:
        raise EditError(
            f"{sound.label} cannot play what {gone[0].name} plays: one of them is a drum. Choose another sound."
        )
    song = AddLayer(sound.key, in_place=True).apply(song)
    made, ids = max(song.layers, key=lambda x: x.id), Ids(song.next_id)
    mine = [p for p in section.placements if p.layer_id == source.id]
    patterns = {}
    for p in mine:
        if p.pattern_id not in patterns:
            song, patterns[p.pattern_id], ids = _on_drum(song, p.pattern_id, sound, ids)
    placed = [replace(p, id=ids(), layer_id=made.id, pattern_id=patterns[p.pattern_id]) for p in mine]
    section = section_of_id(song, section.id)
    song = song.with_section(replace(section, placements=ordered([*section.placements, *placed])))
    return replace(song, next_id=ids.next_id)


def _on_drum(song: Song, pattern_id: int, sound: Sound, ids: Ids) -> tuple[Song, int, Ids]:
    """A pattern as another drum plays it; what follows the harmony is played as it is."""
    entry = song.pattern_by_id[pattern_id]
    if not sound.is_drum:
        return song, pattern_id, ids
    rows = entry.pattern.to_list()
    moved = [[t, d, FIXED, sound.drum_note, 0, v] for t, d, _, _, _, v in rows]
    made = replace(
        entry,
        id=ids(),
        name=f"{entry.name}: {sound.drum}"[:80],
        pattern=type(entry.pattern)(entry.pattern.length_ticks, moved),
    )
    return replace(song, patterns=(*song.patterns, made), next_id=ids.next_id), made.id, ids


# amounts, octaves, filters -------------------------------------------------------------------------------------------


def _varied(song: Song, section: Section, words: str, change: Callable[[Variation], Variation]) -> Song:
    """The placements of some layers in the section, varied. Raises EditError where they are silent there."""
    wanted = {x.id for x in called(song, words)} & {x.id for x in playing(song, section)}
    if not wanted:
        raise EditError(
            f"“{shown(words)}” is silent in {section.name}. Let it play first, for example “with {shown(words)}”."
        )

    def one(p: Placement) -> Placement:
        return replace(p, variation=change(p.variation)) if p.layer_id in wanted else p

    return song.with_section(replace(section, placements=tuple(map(one, section.placements))))


def _by_semitones(semitones: int) -> Callable[[Variation], Variation]:
    def change(v: Variation) -> Variation:
        moved = v.transpose_semitones + semitones
        if abs(moved) > MOST_SEMITONES:
            raise EditError(
                f"That is {abs(moved)} semitones away from what is written; at most {MOST_SEMITONES} are played. Say fewer."
            )
        return replace(v, transpose_semitones=moved)

    return change


def octaves(song: Song, section: Section, words: str, count: str, way: str) -> Song:
    """Some layers octaves up or down."""
    drums = all(x.sound.is_drum for x in called(song, words))
    if drums:
        raise EditError(f"“{shown(words)}” has no pitch to move. Say a layer that has one.")
    sign = 1 if way in ("up", "higher", "above") else -1
    return _varied(song, section, words, _by_semitones(sign * 12 * int(number_of(count))))


def _by_db(db: float) -> Callable[[Variation], Variation]:
    def change(v: Variation) -> Variation:
        return replace(
            v,
            level_start_db=max(-60.0, min(12.0, v.level_start_db + db)),
            level_end_db=max(-60.0, min(12.0, v.level_end_db + db)),
        )

    return change


def louder(song: Song, section: Section, words: str, count: str | None, way: str) -> Song:
    """Some layers louder or softer, by 4 dB where nothing is said."""
    db = number_of(count) if count else 4.0
    return _varied(song, section, words, _by_db(db if way in ("louder", "up") else -db))


def _keeping(share: float) -> Callable[[Variation], Variation]:
    return lambda v: replace(v, keep=max(1e-3, v.keep * share))


def fewer(song: Song, section: Section, words: str) -> Song:
    """Half of the notes of some layers."""
    return _varied(song, section, words, _keeping(0.5))


def busier(song: Song, section: Section, words: str) -> Song:
    """Twice the notes of some layers."""
    return _varied(song, section, words, lambda v: replace(v, double=True, keep=1.0))


def filtered(low_hz: float, high_hz: float) -> Act:
    """An act that puts layers behind a low-pass from one cutoff to another."""

    def act(song: Song, section: Section, words: str | None) -> Song:
        named = words or "chords and leads"
        if not words:
            heard = [x.name for x in playing(song, section) if not x.sound.is_drum and x.family != "low end"]
            named = ", ".join(n.lower() for n in heard) or "everything"
        return _varied(song, section, named, lambda v: replace(v, lowpass_start_hz=low_hz, lowpass_end_hz=high_hz))

    return act


def fades(up: bool) -> Act:
    """An act that fades layers in or out over the section."""

    def act(song: Song, section: Section, words: str | None) -> Song:
        first, last = (-30.0, 0.0) if up else (0.0, -30.0)
        return _varied(
            song, section, words or "everything", lambda v: replace(v, level_start_db=first, level_end_db=last)
        )

    return act


# strokes and joins ---------------------------------------------------------------------------------------------------


def device(song: Song, section: Section, words: str) -> Song:
    """Something that carries the join into the section."""
    wanted = tokens(words)
    for kind in JOIN_KINDS.values():
        if wanted and wanted <= tokens(f"{kind.label} {kind.key}"):
            return AddDevice(section.id, kind.key).apply(song)
    raise UnknownWords(f"“{shown(words)}” is nothing that carries a join. Say a riser, a crash, a fill, a gap, a stop.")


def silence(song: Song, section: Section, which: str, count: str | None, unit: str) -> Song:
    """The first or last bars or beats of the section empty."""
    bars = section_bar_ticks(section, song.metre)
    length = round((number_of(count) if count else 1) * (bars[1] if unit.startswith("bar") else song.metre.beat_ticks))
    low, high = (bars[-1] - length, bars[-1]) if which == "last" else (0, length)
    ids = Ids(song.next_id)
    kept = [clip(p, a, b) for p in section.placements for a, b in ((0, low), (high, bars[-1])) if a < b]
    placed = joined(replace(p, id=ids()) for p in kept if p)
    return replace(song.with_section(replace(section, placements=placed)), next_id=ids.next_id)


def one_by_one(song: Song, section: Section, leaving: str | None) -> Song:
    """Layers that come, or leave, one by one."""
    key = "leave one by one" if leaving else "enter one by one"
    found = next((m for m in moves_for(song, section) if m.key.partition(":")[0] == key), None)
    if found is None:
        raise EditError(
            f"{section.name} has too few phrases or layers for that. Make it longer, or bring layers in first."
        )
    return apply_move(song, found)
