"""What an effect does to a layer's level in a section, measured from the rendered sound: with it, and without it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.edits.edit import layer_of, section_of
from escalera.core.reading.timeline import timeline
from escalera.core.time.ruler import RATE_HZ
from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass
from escalera.services.rendering import Rendering

WINDOW = RATE_HZ // 100
HEARD = 10.0 ** (-60.0 / 20.0)


@dataclass(frozen=True, slots=True)
class Dynamics:
    """Crest (peak over mean level) in dB without and with an effect, the change of level, and the most it takes off in 10 ms."""

    crest_without_db: float
    crest_db: float
    level_db: float
    most_reduction_db: float


def measured_dynamics(rendering: Rendering, song: Song, section_id: int, layer_id: int, effect_id: int) -> Dynamics:
    """An effect of a layer, in a section, measured on that layer alone without its spaces. EditError where nothing sounds."""
    section, layer = section_of(song, section_id), layer_of(song, layer_id)
    if not any(d.id == effect_id for d in layer.devices):
        raise EditError("That effect is not in the chain any more. Load the page again.")
    with_it, without = (_alone(rendering, song, section_id, layer_id, effect_id, on) for on in (True, False))
    if not np.abs(without).max(initial=0.0) > HEARD:
        raise EditError(
            f"{layer.name} is silent in {section.name}, so nothing can be measured. Choose a section where it plays."
        )
    levels = [20.0 * np.log10(float(np.sqrt(np.square(x).mean())) + 1e-9) for x in (without, with_it)]
    crests = [20.0 * np.log10(float(np.abs(x).max()) + 1e-9) - level for x, level in zip((without, with_it), levels)]
    a, b = (_windows(x) for x in (without, with_it))
    loud = a > max(HEARD, float(a.max()) * 0.05)
    change = 20.0 * np.log10((a[loud] + 1e-9) / (b[loud] + 1e-9))
    return Dynamics(crests[0], crests[1], levels[1] - levels[0], float(change.max()) if len(change) else 0.0)


def _alone(
    rendering: Rendering, song: Song, section_id: int, layer_id: int, effect_id: int, on: bool
) -> NDArray[np.float32]:
    layer = song.layer_by_id[layer_id]
    devices = tuple(replace(d, on=on) if d.id == effect_id else d for d in layer.devices)
    section = section_of(song, section_id)
    kept = tuple(t for t in section.treatments if t.lane != f"fx.{effect_id}.on")
    song = song.with_layer(replace(layer, devices=devices)).with_section(replace(section, treatments=kept))
    line = timeline(song)
    span = line.span_of(section_id)
    start = line.samples(RATE_HZ)[line.spans.index(span)]
    end = start + round(span.length_seconds * RATE_HZ)
    return rendering.renderer.before_master(song, line, start, end, frozenset((layer_id,)), wet=False)


def _windows(audio: NDArray[np.float32]) -> NDArray[np.float64]:
    """Mean level of every 10 ms, shape (windows,)."""
    count = audio.shape[1] // WINDOW
    parts = audio[:, : count * WINDOW].reshape(2, count, WINDOW).astype(np.float64)
    return np.sqrt(np.square(parts).mean(axis=(0, 2)))
