"""From placements to events: what each layer really plays in a section, in ticks and sounding pitches."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.shaping import layer_in
from escalera.core.document.song import Layer, Placement, Section, Song, Swing, Variation
from escalera.core.palette.recorded_sounds import AS_IT_IS
from escalera.core.palette.sounds import CHOKES
from escalera.core.reading.section_harmony import Harmony, section_harmony
from escalera.core.reading.timeline import Span
from escalera.core.rhythm.pattern import CLIP, DEGREE, FIXED, TONE, VOICE, Pattern
from escalera.core.rhythm.pattern_variations import backwards, double_time, metrical_weight, thin
from escalera.core.theory.voicings import TOP, Voicing, place_class, root_position, voice_path
from escalera.lazy_dataclasses import dataclass

START, DURATION, PITCH, VELOCITY, PLACEMENT, CLIP_OF, SKIP = range(7)
WIDTH = 7
NO_CLIP = -1
REVERSED = 256  # added to a clip's number where it is played backwards


@dataclass(frozen=True, eq=False)
class Events:
    """Notes of one layer in one section.

    `table` has shape (n, 7), int32: start tick (may be negative), duration in ticks, MIDI pitch, velocity, the index into
    `spans` of the placement it comes from, the number of the layer's clip it plays (NO_CLIP for notes), and how many ticks
    into that clip it begins. `spans` holds (start, end, variation).
    """

    table: NDArray[np.int32]
    spans: tuple[tuple[int, int, Variation], ...]

    def __len__(self) -> int:
        return len(self.table)

    def __eq__(self, other: object) -> bool:
        """By what is played: two that were resolved one after the other are the same."""
        if self is other or not isinstance(other, Events):
            return self is other
        return self.spans == other.spans and np.array_equal(self.table, other.table)

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        return hash((self.table.tobytes(), self.spans))


EMPTY = Events(np.zeros((0, WIDTH), np.int32), ())


@lru_cache(maxsize=2048)
def varied(pattern: Pattern, variation: Variation) -> Pattern:
    """The pattern as a placement plays it (pitch shifts and curves are applied later)."""
    if variation.reverse and not pattern.has_clips:
        pattern = backwards(pattern)
    if variation.double:
        pattern = double_time(pattern)
    return pattern if pattern.has_clips else thin(pattern, variation.keep)


def unroll(pattern: Pattern, placement: Placement) -> NDArray[np.int32]:
    """Rows of `pattern` repeated over a placement, starts in section ticks; shape (n, 6), with the columns of a pattern.

    Pickups sound before the first cycle.
    """
    return _unrolled(pattern, placement)[0]


def unroll_from(pattern: Pattern, placement: Placement) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """As `unroll`, and of every row its index in the pattern and its cycle's start, shape (n, 2)."""
    rows, inside, cycles = _unrolled(pattern, placement)
    source = np.stack((np.tile(np.arange(len(pattern)), len(cycles)), np.repeat(cycles, len(pattern))), axis=1)
    return rows, source[inside]


def _unrolled(pattern: Pattern, placement: Placement) -> tuple[NDArray[np.int32], NDArray[np.bool_], NDArray[np.int64]]:
    """Rows, which of all rows of all cycles they are, and the cycles' starts."""
    length, offset = pattern.length_ticks, placement.offset_ticks
    low, high = placement.start_ticks, placement.end_ticks
    first, last = (low - offset) // length, -(-(high - offset) // length)
    if pattern.has_clips:
        first -= int(pattern.rows[:, :2].sum(axis=1).max()) // length
    cycles = np.arange(first, max(first, last), dtype=np.int64) * length + offset
    rows, cycle = pattern.rows, cycles
    if len(cycles) != 1:
        rows, cycle = np.tile(rows, (len(cycles), 1)), np.repeat(cycles, len(pattern))
    at = rows[:, 0] + cycle
    inside = (at >= low) | ((rows[:, 0] < 0) & (cycle == low))
    if pattern.has_clips:
        inside |= (rows[:, 2] == CLIP) & (at + rows[:, 1] > low)
    inside &= at < high
    found = rows[inside]
    found[:, 0] = at[inside]
    return found, inside, cycles


@dataclass(frozen=True, slots=True)
class Player:
    """What of a layer decides the pitches it plays; the key of the events' cache, so that a level never is."""

    is_drum: bool
    low_end: bool
    register_low: int
    register_centre: int
    voicing: Voicing = Voicing()
    cuts: tuple[tuple[int, ...], ...] = ()  # of every clip: ticks at which something begins in it


def pitches_of(rows: NDArray[np.int32], harmony: Harmony, player: Player, shift: int) -> NDArray[np.int32]:
    """Sounding MIDI pitch of every row; a following note takes the chord at its onset.

    Pitches are found in the song's own key and then raised by `shift`, so that a section moved up sounds higher
    instead of settling in another inversion.
    `shift` in semitones; shape (n,) for n rows.
    """
    kind, value, octave = rows[:, 2], rows[:, 3], rows[:, 4]
    pitch = value + (12 * octave + (0 if player.is_drum else shift))
    if not kind.any():  # FIXED is 0
        return pitch
    pitch = np.where(kind == CLIP, AS_IT_IS - value, 0) + pitch
    following = np.flatnonzero((kind != FIXED) & (kind != CLIP))
    if not len(following):
        return pitch
    low, degrees, chords = player.register_low, harmony.key.degrees, harmony.home
    tonic = place_class(harmony.key.tonic_class - shift, low)
    voices = int(value[kind == VOICE].max()) + 1 if (kind == VOICE).any() else 0
    path = voice_path(chords, max(voices, 2), player.register_centre, player.voicing) if voices else ()
    for i in following:
        at = harmony.index_at(int(rows[i, 0]))
        if kind[i] == DEGREE:
            sounding = tonic + 12 * (value[i] // 7) + degrees[value[i] % 7]
        elif kind[i] == TONE:
            chord = chords[at]
            tones = root_position(chord, low)
            sounding = tones[value[i] % len(tones)] + 12 * (value[i] // len(tones))
            if value[i] == 0 and chord.bass_fifths is not None and player.low_end:
                sounding = place_class(chord.bass_class, low)
        else:
            sounding = path[at][value[i]]
        pitch[i] = sounding + 12 * octave[i] + shift
    return pitch


def _voiced(rows: NDArray[np.int32], voicing: Voicing) -> NDArray[np.int32]:
    """Rows with the voices that a layer's voicing asks for: fewer, more, one below, the highest twice."""
    is_voice = rows[:, 2] == VOICE
    if voicing == Voicing() or not is_voice.any():
        return rows
    if voicing.voices:
        rows = rows[~is_voice | (rows[:, 3] < voicing.voices)]
        is_voice = rows[:, 2] == VOICE
    top = int(rows[is_voice, 3].max())
    lowest, highest = rows[is_voice & (rows[:, 3] == 0)], rows[is_voice & (rows[:, 3] == top)]
    added = [_with(highest, 3, voice) for voice in range(top + 1, voicing.voices)]
    uppermost = added[-1] if added else highest
    if voicing.double == TOP:
        added.append(_with(uppermost, 4, uppermost[:, 4] + 1))
    if voicing.octave_below:
        added.append(_with(lowest, 4, lowest[:, 4] - 1))
    return np.concatenate((rows, *added))


def _with(rows: NDArray[np.int32], column: int, value: int | NDArray[np.int32]) -> NDArray[np.int32]:
    changed = rows.copy()
    changed[:, column] = value
    return changed


@lru_cache(maxsize=1024)
def _layer_events(
    player: Player,
    items: tuple[tuple[Placement, Pattern], ...],
    harmony: Harmony,
    shift: int,
    stops: tuple[int, ...],
    swing: Swing | None = None,
) -> Events:
    parts: list[NDArray[np.int32]] = []
    spans: list[tuple[int, int, Variation]] = []
    for placement, pattern in items:
        rows = _voiced(unroll(varied(pattern, placement.variation), placement), player.voicing)
        if len(rows):
            parts.append(_placed(rows, len(spans), placement, pattern, player, harmony, shift))
        spans.append((placement.start_ticks, placement.end_ticks, placement.variation))
    if not parts:
        return EMPTY
    table = np.concatenate(parts)
    if swing is not None:
        ends = swung(table[:, START] + table[:, DURATION], swing)
        table[:, START] = swung(table[:, START], swing)
        table[:, DURATION] = np.maximum(1, ends - table[:, START])
    table = table[np.lexsort((table[:, PITCH], table[:, START]))]
    table[:, PITCH] = _into_midi(table[:, PITCH])
    if stops and len(table):
        at = np.searchsorted(np.array(stops), table[:, START], side="right")
        ends = np.append(np.array(stops), np.iinfo(np.int32).max)[at]
        table[:, DURATION] = np.minimum(table[:, DURATION], ends - table[:, START])
    table.setflags(write=False)
    return Events(table, tuple(spans))


def _placed(
    rows: NDArray[np.int32],
    number: int,
    placement: Placement,
    pattern: Pattern,
    player: Player,
    harmony: Harmony,
    shift: int,
) -> NDArray[np.int32]:
    """Events of the rows that a placement plays, shape (n, 7)."""
    table = np.zeros((len(rows), WIDTH), np.int32)
    table[:, START : DURATION + 1], table[:, VELOCITY] = rows[:, :2], rows[:, 5]
    transpose = 0 if player.is_drum else placement.variation.transpose_semitones
    table[:, PITCH] = pitches_of(rows, harmony, player, shift) + transpose
    table[:, PLACEMENT], table[:, CLIP_OF] = number, NO_CLIP
    if placement.variation.cut:
        table[:, DURATION] = np.clip(placement.end_ticks - table[:, START], 1, table[:, DURATION])
    return _clips(table, rows, placement, player.cuts) if pattern.has_clips else table


def _clips(
    table: NDArray[np.int32], rows: NDArray[np.int32], placement: Placement, cuts: tuple[tuple[int, ...], ...]
) -> NDArray[np.int32]:
    """Events with their clips: what begins before its placement is entered in its middle, what lasts longer ends with it."""
    is_clip = rows[:, 2] == CLIP
    turned = REVERSED if placement.variation.reverse else 0
    table[:, CLIP_OF] = np.where(is_clip, rows[:, 3] + turned, NO_CLIP)
    early = np.where(is_clip, np.maximum(0, placement.start_ticks - table[:, START]), 0)
    table[:, START] += early
    table[:, SKIP] = early
    table[:, DURATION] = np.where(
        is_clip,
        np.minimum(table[:, DURATION] - early, placement.end_ticks - table[:, START]),
        table[:, DURATION],
    )
    table = table[table[:, DURATION] > 0]
    return _thin_clips(table, cuts, placement.variation.keep) if placement.variation.keep < 1.0 else table


def _thin_clips(table: NDArray[np.int32], cuts: tuple[tuple[int, ...], ...], keep: float) -> NDArray[np.int32]:
    """Clips cut where something begins in them, and only a share of the pieces, those on weak places going first."""
    pieces = []
    for row in table.tolist():
        number = row[CLIP_OF] % REVERSED
        known = cuts[number] if 0 <= number < len(cuts) and row[CLIP_OF] != NO_CLIP else ()
        low, high = row[SKIP], row[SKIP] + row[DURATION]
        edges = sorted({low, high, *(t for t in known if low < t < high)})
        for a, b in zip(edges, edges[1:]):
            pieces.append([row[START] + a - low, b - a, *row[2:SKIP], a])
    found = np.array(pieces, np.int32).reshape(-1, WIDTH)
    order = np.lexsort((found[:, START], -found[:, VELOCITY], -metrical_weight(found[:, START])))
    stay = np.sort(order[: max(1, round(len(found) * keep))])
    return found[stay]


def swing_of(swings: tuple[Swing, ...], layer_id: int) -> Swing | None:
    """The swing of a layer: its own, else the section's."""
    own = {s.layer_id: s for s in swings}
    return own.get(layer_id) or own.get(0)


def swung(ticks: NDArray[np.int32], swing: Swing) -> NDArray[np.int32]:
    """Ticks of a section with every pair of subdivisions bent, so that its middle comes at the ratio.

    `ticks` of any shape, from the section’s start; the ratio runs from 0.5 (straight) to 0.75.
    """
    pair = 2 * swing.subdivision_ticks
    start = ticks // pair * pair
    share = (ticks - start) / pair
    bent = np.where(share < 0.5, 2 * share * swing.ratio, swing.ratio + (2 * share - 1) * (1 - swing.ratio))
    return (start + np.rint(bent * pair)).astype(np.int32)


def _into_midi(pitch: NDArray[np.int32]) -> NDArray[np.int32]:
    """Pitches moved by octaves into 0..127, so that no edit can make a note that cannot be written."""
    over = np.maximum(0, -(-(pitch - 127) // 12))
    under = np.maximum(0, -(pitch // 12))
    return pitch - 12 * over + 12 * under


Item = tuple[Placement, Pattern]


def _plain(placement: Placement) -> Placement:
    """A placement without its ids: equal content resolves once, wherever it stands."""
    return Placement(0, 0, 0, placement.start_ticks, placement.end_ticks, placement.offset_ticks, placement.variation)


def player_of(layer: Layer, cuts: tuple[tuple[int, ...], ...] = ()) -> Player:
    """What decides which pitches a layer plays over a chord."""
    return Player(
        layer.sound.is_drum,
        layer.family == "low end",
        layer.register_low,
        layer.register_centre,
        layer.voicing,
        cuts,
    )


def clip_cuts(song: Song, layer: Layer) -> tuple[tuple[int, ...], ...]:
    """Of every clip of a layer, the ticks from its beginning at which something begins in it; most strongly 64 of them."""
    found = []
    for clip in layer.clips:
        sample = song.sample_by_content.get(clip.sample)
        rows = sample.onset_rows if sample else np.zeros((0, 3))
        rows = rows[(rows[:, 0] > clip.start_s + 0.02) & (rows[:, 0] < clip.end_s - 0.02) & (rows[:, 1] > 0.2)]
        share = (rows[:, 0] - clip.start_s) / max(clip.seconds, 1e-6)
        share = 1.0 - share if clip.reversed else share
        found.append(tuple(sorted(round(x * clip.length_ticks) for x in share.tolist())[:64]))
    return tuple(found)


def _players(song: Song) -> tuple[tuple[int, Player, str, bool], ...]:
    """Per layer: id, what decides its pitches, its drum role, whether it is muted. Made once per state."""
    if "players" not in song.memo:
        song.memo["players"] = tuple(
            (x.id, player_of(x, clip_cuts(song, x)), x.sound.drum, x.muted) for x in song.layers
        )
    return song.memo["players"]


def section_events(song: Song, span: Span) -> dict[int, Events]:
    """What every placed layer plays in a section, muted or not, by layer id. Unchanged sections are found at once."""
    section, key = span.section, ("events", span.section.id)
    if key not in song.memo:
        patterns = song.pattern_by_id
        items = tuple((p, patterns[p.pattern_id].pattern) for p in section.placements)
        song.memo[key] = _section_events(
            items, _players(song), section_harmony(song, span), section.shift_semitones, section.swings
        )
    return song.memo[key]


@lru_cache(maxsize=1024)
def _section_events(
    items: tuple[Item, ...],
    players: tuple[tuple[int, Player, str, bool], ...],
    harmony: Harmony,
    shift: int,
    swings: tuple[Swing, ...] = (),
) -> dict[int, Events]:
    by_layer: dict[int, list[Item]] = {}
    for placement, pattern in items:
        by_layer.setdefault(placement.layer_id, []).append((_plain(placement), pattern))
    found: dict[int, Events] = {}
    for layer_id, player, _, _ in players:
        if layer_id in by_layer:
            found[layer_id] = _layer_events(
                player, tuple(by_layer[layer_id]), harmony, shift, (), swing_of(swings, layer_id)
            )
    for layer_id, player, drum, _ in players:
        stops = _stops(players, found, CHOKES.get(drum, "")) if layer_id in found else ()
        if stops:
            found[layer_id] = _layer_events(
                player, tuple(by_layer[layer_id]), harmony, shift, stops, swing_of(swings, layer_id)
            )
    return found


def _stops(
    players: tuple[tuple[int, Player, str, bool], ...], found: dict[int, Events], choker: str
) -> tuple[int, ...]:
    """Onsets that cut a layer's notes short: a closed hat ends an open one."""
    ticks: set[int] = set()
    for layer_id, _, drum, muted in players:
        if choker and drum == choker and not muted and layer_id in found:
            ticks.update(found[layer_id].table[:, START].tolist())
    return tuple(sorted(ticks))


def layer_events(song: Song, span: Span, layer: Layer) -> Events:
    """What a layer plays in a section, muted or not."""
    return section_events(song, span).get(layer.id, EMPTY)


def sounding_layers(song: Song, section: Section) -> Sequence[Layer]:
    """Layers that have a placement in the section and are not muted, as the section treats them, in the song's order."""
    key = ("sounding", section.id)
    if key not in song.memo:
        placed = {p.layer_id for p in section.placements}
        sounding = (layer for layer in song.layers if layer.id in placed and not layer.muted)
        song.memo[key] = (
            [layer_in(song, section, layer) for layer in sounding] if section.treatments else list(sounding)
        )
    return song.memo[key]


def heard_in(song: Song, span: Span) -> tuple[object, ...]:
    """What a section plays and how it is laid out, apart from levels and names: a key for what depends on nothing else."""
    key = ("heard", span.section.id)
    if key not in song.memo:
        playing = tuple(
            (x.sound_key, x.family, layer_events(song, span, x)) for x in sounding_layers(song, span.section)
        )
        harmony = section_harmony(song, span)
        song.memo[key] = (span.grid, playing, span.section.placements, harmony, span.section.phrases)
    return song.memo[key]
