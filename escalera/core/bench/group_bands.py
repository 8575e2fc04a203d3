"""What every layer of a group adds: its share of the group in the bands where it has most."""

from __future__ import annotations

import numpy as np

from escalera.core.document.song import Song
from escalera.core.energy.model import arranged
from escalera.core.energy.stats import BANDS

LEAST = 0.25  # share of the group in a band that is worth naming


def group_bands(song: Song, group: str) -> list[tuple[str, list[tuple[str, float]]]]:
    """For every layer of a group, the bands (at most two) of which it has a good share of the group's power, in the section where most of it plays."""
    ids = {x.id for x in song.layers if x.group == group and group}
    sections = arranged(song).sections
    best = max(sections, key=lambda s: sum(x.id in ids for x in s.layers), default=None)
    if best is None:
        return []
    rows = [(x.name, stats[:, :6].mean(axis=0)) for x, stats in zip(best.layers, best.stats) if x.id in ids]
    if not rows:
        return []
    powers = np.stack([power for _, power in rows])
    shares = powers / np.maximum(powers.sum(axis=0), 1e-14)
    found = []
    for (name, _), share in zip(rows, shares):
        ranked = [(BANDS[i], float(share[i])) for i in np.argsort(-share)[:2] if share[i] >= LEAST]
        found.append((name, ranked))
    return found
