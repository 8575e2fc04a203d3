"""Where a layer belongs in the mix by its job: level, side, filters, spaces, ducking. What a new layer gets, so that it is heard and hides nobody.

Levels are those of arrangers' practice: what leads lies three to six dB over what follows it, one owns the low end, cymbals
are heard and not noticed.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from escalera.core.bench.held_clashes import clearest
from escalera.core.bench.seats import Seat, seats
from escalera.core.document.limits import MIN_LEVEL_DB
from escalera.core.document.song import Ids, Layer, Placement, Section, Song
from escalera.core.energy.features import section_stats
from escalera.core.energy.terms import K_POWER, decibels
from escalera.core.palette.profiles import note_energy
from escalera.core.reading.timeline import section_bar_ticks, timeline
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class MixPlace:
    """A job's place. `level_db` is K-weighted: of one hit a beat for drums, of what sounds for the rest.

    `side` is how far from the middle, 0..1; `highpass_hz` where something else owns the lows; `sends` by space, `dry` how far they are
    kept back; `duck` the share of the style's ducking.
    """

    level_db: float
    side: float = 0.0
    highpass_hz: float = 20.0
    near_db: float | None = None
    far_db: float | None = None
    duck: float = 0.0


PLACES: dict[str, MixPlace] = {
    "kick": MixPlace(-25.5),
    "snare": MixPlace(-24.0, near_db=-9.0),
    "hat": MixPlace(-35.0, 0.25, 300.0),
    "open hat": MixPlace(-35.0, 0.3, 300.0, near_db=-14.0),
    "percussion": MixPlace(-33.5, 0.6, 150.0, near_db=-10.0),
    "toms": MixPlace(-27.0, 0.4, near_db=-10.0),
    "ride": MixPlace(-35.5, 0.4, 300.0, near_db=-14.0),
    "crash": MixPlace(-29.0, 0.2, 200.0, near_db=-12.0),
    "sub": MixPlace(-29.5, duck=1.0),
    "bass": MixPlace(-25.5, duck=0.7),
    "chords": MixPlace(-28.5, 0.45, 120.0, near_db=-7.0, duck=0.5),
    "wide": MixPlace(-30.5, 0.0, 220.0, far_db=-5.0, duck=0.8),
    "figure": MixPlace(-31.0, 0.7, 240.0, near_db=-9.0, far_db=-8.0, duck=0.3),
    "hook": MixPlace(-27.5, 0.2, 200.0, near_db=-10.0, far_db=-10.0),
    "counter": MixPlace(-29.5, 0.6, 220.0, far_db=-6.0),
    "lead voice": MixPlace(-25.5, 0.0, 120.0, near_db=-10.0, far_db=-13.0),
    "harmony": MixPlace(-30.0, 0.0, 220.0, far_db=-4.0),
    "place": MixPlace(-40.0, 0.0, 120.0),
    "effect": MixPlace(-28.0, 0.0, 60.0, far_db=-10.0),
}  # fmt: skip
SPACE_OF = {
    "dance": ("chamber", "echo"),
    "song": ("chamber", "hall"),
    "band": ("near", "chamber"),
    "weather": ("hall", "shimmer"),
}
USUAL_SPACES = ("chamber", "hall")
NEAR = ("near", "chamber")
SENT_DB = -59.5
OWNED_HZ = 90.0  # a bass leaves what lies below to a sub
HISS = ("snare", "clap", "snap", "rim", "click", "closed hat", "open hat", "shaker", "ride", "crash")  # drums of noise
HISS_TOP_HZ = 14_000.0  # above it noise is only sharp: microphones, tape and ears leave it out
HIT_S = 0.5  # seconds between the hits that a drum's level is counted with


def loudness_at_zero(song: Song, section: Section, layer: Layer, part: list[Placement]) -> float | None:
    """K-weighted level in dB that a layer comes with at 0 dB where it sounds; of one hit every HIT_S for drums. None where nothing sounds."""
    plain = replace(layer, level_db=0.0, duck_db=0.0, muted=False)
    ids = Ids(1)
    body = replace(
        section, placements=tuple(replace(p, id=ids()) for p in part), devices=(), build=None, treatments=(), curves=()
    )
    alone = replace(song, layers=(plain,), sections=(body,), master_gain_db=0.0, buses=(), master=())
    _, stats = section_stats(alone, timeline(alone).spans[0])
    if not len(stats):
        return None
    power = stats[0, :, :6] @ K_POWER
    heard = power > 1e-9
    if not heard.any():
        return None
    mean = float(power[heard].mean())
    if layer.sound.is_drum:
        strikes = _strikes(song, section, part) / max(1e-6, timeline(alone).spans[0].length_seconds)
        mean /= max(strikes * HIT_S, 1e-6)
    elif layer.sound.hold == "struck":  # what dies away is as loud as it is struck, however seldom
        mean /= min(1.0, max(_onsets(song, part) / timeline(alone).spans[0].length_seconds, 0.05))
    return float(decibels(np.array(mean)))


def _strikes(song: Song, section: Section, part: list[Placement]) -> float:
    total = 0.0
    for p in part:
        pattern = song.pattern_by_id[p.pattern_id].pattern
        velocities = pattern.rows[:, 5].clip(max=127) / 100.0
        total += float((velocities**3).sum()) * (p.end_ticks - p.start_ticks) / pattern.length_ticks
    return total


def _onsets(song: Song, part: list[Placement]) -> float:
    total = 0.0
    for p in part:
        pattern = song.pattern_by_id[p.pattern_id].pattern
        total += len(np.unique(pattern.rows[:, 0])) * (p.end_ticks - p.start_ticks) / pattern.length_ticks
    return total


def whole_section(song: Song, section: Section, layer: Layer) -> list[Placement]:
    """The placements a layer's level is read from: where it plays, else its pattern throughout."""
    mine = [p for p in section.placements if p.layer_id == layer.id]
    if mine or layer.pattern_id not in song.pattern_by_id:
        return mine
    return [Placement(1, layer.id, layer.pattern_id, 0, section_bar_ticks(section, song.metre)[-1])]


def level_for(song: Song, section: Section, layer: Layer, seat: str, offset_db: float = 0.0) -> float:
    """The level in dB that puts a layer where its job belongs, `offset_db` above the table (how the present mix stands to it)."""
    own = loudness_at_zero(song, section, layer, whole_section(song, section, layer))
    if own is None:  # nothing is written yet: a note in the middle of its register, once every HIT_S
        energy = note_energy(layer.sound_key, np.array([float(layer.register_centre)]), np.array([HIT_S]))[0]
        own = float(decibels(np.array(energy @ K_POWER / HIT_S)))
    return round(float(np.clip(PLACES[seat].level_db + offset_db - own, MIN_LEVEL_DB + 20.0, 6.0)), 1)


def spaces_of(song: Song) -> tuple[str, str]:
    """The near and the far space of the song: those its layers are sent to, else its style's."""
    used = [key for layer in song.layers for key, level in layer.sends if level > SENT_DB]
    usual = SPACE_OF.get(song.school, USUAL_SPACES)
    ranked = sorted(set(used), key=lambda key: -used.count(key))
    near = next((k for k in ranked if k in NEAR), None)
    far = next((k for k in ranked if k not in NEAR), None)
    return near or usual[0], far or usual[1]


def mix_offset(song: Song, section: Section, rest: list[Seat]) -> float:
    """How far the present mix lies above the table, in dB: the middle of what its layers say; 0 where there are none."""
    found = []
    for seat in rest:
        own = loudness_at_zero(song, section, seat.layer, whole_section(song, section, seat.layer))
        if own is not None:
            found.append(own + seat.layer.level_db - PLACES[seat.part].level_db)
    return float(np.median(found)) if found else 0.0


def free_side(song: Song, seat: Seat, rest: list[Seat]) -> float:
    """The pan that a layer takes: its job's distance from the middle, on the side where less lies."""
    side = PLACES[seat.part].side
    if not side:
        return 0.0
    alike = [x for x in rest if PLACES[x.part].side and x.layer.sound.is_drum == seat.layer.sound.is_drum]
    weight = sum(x.layer.pan for x in alike)
    return side if weight <= 0 else -side


DEALT = {
    "wide": ("chords", "wide", "harmony"),
    "figure": ("hook", "figure", "counter", "chords"),
    "counter": ("hook", "lead voice", "figure"),
}
APART, HIGHEST = (
    9,
    86,
)  # semitones between the middles of two registers that do not hide each other; no middle lies above this


def free_octave(seat: Seat, rest: list[Seat]) -> int:
    """The octave in which a layer lies furthest from those it would hide behind, its own where that is as good."""
    others = [x.layer.register_centre for x in rest if x.part in DEALT.get(seat.part, ())]
    if not others:
        return seat.layer.octave

    def cost(octave: int) -> float:
        centre = seat.layer.sound.centre + 12 * octave
        near = sum(max(0, APART - abs(centre - other)) for other in others)
        return near + 4 * abs(octave - seat.layer.octave) + 100 * (centre > HIGHEST)

    return min((seat.layer.octave, seat.layer.octave + 1, seat.layer.octave - 1), key=cost)


def in_its_place(
    song: Song, section: Section, layer_id: int, duck_db: float = 0.0, offset_db: float | None = None
) -> Layer:
    """A layer at its job's level, side and filters (drums of noise rolled off at the top), sent into the song's spaces and ducked as its job is.

    `offset_db` is how far the mix lies above the table of jobs; None reads it from what plays in the section.
    """
    every = seats(song)
    mine = next((s for s in every if s.layer.id == layer_id), None)
    if mine is None:  # a muted layer has no place
        return song.layer_by_id[layer_id]
    rest, place = [s for s in every if s.layer.id != layer_id], PLACES[mine.part]
    playing = {p.layer_id for p in section.placements}
    if offset_db is None:
        offset_db = mix_offset(
            song, section, [s for s in rest if s.layer.id in playing and s.part not in ("effect", "place")]
        )
    near, far = spaces_of(song)
    sends = tuple((key, db) for key, db in ((near, place.near_db), (far, place.far_db)) if db is not None)
    owned = any(s.part == "sub" for s in rest)
    highpass = max(place.highpass_hz, OWNED_HZ if mine.part == "bass" and owned else 0.0)
    layer = replace(mine.layer, octave=free_octave(mine, rest), highpass_hz=highpass)
    if layer.sound.drum in HISS:
        layer = replace(layer, lowpass_hz=min(layer.lowpass_hz, HISS_TOP_HZ))
    if mine.part in ("chords", "wide", "harmony"):
        layer = clearest(song.with_layer(layer), section, layer)
    return replace(
        layer,
        level_db=level_for(song, section, layer, mine.part, offset_db),
        pan=round(free_side(song, mine, rest), 2),
        sends=tuple(sorted(dict(sends).items())),
        duck_db=round(duck_db * place.duck, 1),
    )
