"""Energy and measurements as plain data: the stable JSON of the command line."""

from __future__ import annotations

from math import isfinite
from typing import Any

import numpy as np

from escalera.core.document.schools import TERMS
from escalera.core.document.song import Song
from escalera.core.energy.model import arranged
from escalera.core.energy.stats import BANDS
from escalera.core.energy.terms import scale_of, weights
from escalera.formats.audio import decode_audio
from escalera.meters.loudness import loudness, true_peak_dbtp
from escalera.meters.span_meters import band_levels_db, measure_spans
from escalera.services.rendering import Rendering


def energy_report(song: Song, rendering: Rendering, progress: Any = None) -> dict[str, Any]:
    """Target, arranged and measured energy per bar and section, with agreement of the measured one."""
    measured = rendering.measure(song, progress)
    gain, _ = scale_of(song)
    points = gain * weights(song.school)
    bars, sections = [], []
    for energy, heard in zip(arranged(song).sections, measured.sections):
        section, terms = energy.span.section, energy.bar_terms()
        for i in range(section.bars):
            bars.append(
                {
                    "bar": energy.span.first_bar + i,
                    "target": _figure(section.target.at((i + 0.5) / section.bars)),
                    "arranged": _figure(energy.bars[i]),
                    "measured": _figure(heard.bars[i]),
                    "tension": _figure(energy.tension[i]),
                    "terms": {name: _figure(value) for name, value in zip(TERMS, terms[i] * points)},
                }
            )
        sections.append(
            {
                "name": section.name,
                "role": section.role,
                "first_bar": energy.span.first_bar,
                "last_bar": energy.span.last_bar,
                "target": _figure(section.target.mean),
                "arranged": _figure(energy.value),
                "measured": _figure(heard.value),
            }
        )
    found = measured.agreement
    agreement = {
        "joins_as_meant": found.joins_as_meant,
        "joins": found.joins,
        "mean_distance": _figure(found.mean_distance),
    }
    return {"bars": bars, "sections": sections, "agreement": agreement}


def measure_report(data: bytes) -> dict[str, Any]:
    """Loudness, peak, bands and correlation of an audio file; null where silence has no figure."""
    audio, rate = decode_audio(data)
    found = loudness(audio, rate)
    stereo = audio if audio.shape[0] == 2 else np.repeat(audio, 2, axis=0)
    edges = np.array([0, stereo.shape[1]])
    spans = measure_spans(stereo, rate, edges) if stereo.shape[1] else None
    bands = band_levels_db(spans.stats)[0] if spans else np.full(len(BANDS), -120.0)
    return {
        "integrated_lufs": _figure(found.integrated_lufs),
        "range_lu": _figure(found.range_lu),
        "max_momentary_lufs": _figure(found.max_momentary_lufs),
        "max_short_term_lufs": _figure(found.max_short_term_lufs),
        "true_peak_dbtp": _figure(true_peak_dbtp(audio)),
        "bands_db": {name: _figure(value) for name, value in zip(BANDS, bands)},
        "correlation": _figure(spans.correlation[0] if spans else 1.0),
    }


def _figure(value: float | None) -> float | None:
    return round(float(value), 3) if value is not None and isfinite(value) else None
