"""Timing and the hands: quantise, humanise, what two hands and two feet can play."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from escalera.core.rhythm.beat import CYMBALS, FEET, OTHER_HANDS, RANK, Beat, Hit
from escalera.core.time.ticks import seconds_to_ticks

HANDS = 2
GRIDS = {"1/4": 960, "1/8": 480, "1/8 triplet": 320, "1/16": 240, "1/16 triplet": 160, "1/32": 120}
# when three hands would be needed, what is let go first: time-keepers give way to accents
LET_GO = {"closed hat": 0, "ride": 1, "open hat": 2, "rim": 3}


def quantise(played: Beat, grid_ticks: int, amount: float) -> Beat:
    """Every hit moved toward the nearest step of a grid by a share 0..1."""
    return played.with_hits(
        replace(
            h,
            tick=min(
                played.length_ticks - 1, round(h.tick + (round(h.tick / grid_ticks) * grid_ticks - h.tick) * amount)
            ),
        )
        for h in played.hits
    )


def humanise(played: Beat, amount_ms: float, tempo_bpm: float, seed: int) -> Beat:
    """Hits moved by chance, at most `amount_ms` either way, and their velocities by up to a tenth; the same seed, the same beat."""
    dice = np.random.default_rng(seed)
    spread = seconds_to_ticks(amount_ms / 1000.0, tempo_bpm)
    hits = []
    for h in played.hits:
        moved = h.tick + round(float(np.clip(dice.normal(0.0, 0.5), -1.0, 1.0)) * spread)
        louder = h.velocity * (1.0 + 0.1 * float(dice.uniform(-1.0, 1.0)) * min(1.0, amount_ms / 10.0))
        hits.append(
            replace(
                h,
                tick=max(-played.length_ticks + 1, min(played.length_ticks - 1, moved)),
                velocity=max(1, min(127, round(louder))),
            )
        )
    return played.with_hits(hits)


def playable(played: Beat) -> Beat:
    """The beat as two hands and two feet can play it (claps, shakers and hand drums are other people's): a crash takes the hand that kept time; of three things at once the
    time-keeper goes."""
    by_tick: dict[int, list[Hit]] = {}
    for h in played.hits:
        by_tick.setdefault(h.tick, []).append(h)
    kept: list[Hit] = []
    for hits in by_tick.values():
        free = [h for h in hits if h.drum in FEET or h.drum in OTHER_HANDS]
        hands = [h for h in hits if h not in free]
        if any(h.drum == "crash" for h in hands):
            hands = [h for h in hands if h.drum not in CYMBALS]
        hands.sort(key=lambda h: (LET_GO.get(h.drum, 9), h.velocity, -RANK[h.drum]))
        kept += free + hands[max(0, len(hands) - HANDS) :]
    return played.with_hits(kept)
