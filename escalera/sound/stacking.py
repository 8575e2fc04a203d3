"""Do stacked sounds cancel in the low end? One note of each, alone and together, compared below 120 Hz."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.devices import StackPart
from escalera.core.document.recordings import Clip
from escalera.core.document.song import Layer
from escalera.core.palette.parameters import Settings
from escalera.core.palette.sounds import BY_KEY
from escalera.lazy_dataclasses import dataclass
from escalera.sound.probe import play_note
from escalera.sound.recording_files import library
from escalera.sound.schedule import RATE_HZ

LOW_HZ, HIGH_HZ = 25.0, 120.0
LOSS_DB = 1.5  # so much less than the parts bring by themselves is called cancelling
SIZE = 1 << 16


@dataclass(frozen=True, slots=True)
class StackReport:
    """`loss_db` is what the low end together lacks against the powers of the parts added up; `remedy` is None when no
    turned polarity and no offset within 8 ms mends it."""

    loss_db: float
    cancels: bool
    remedy: StackPart | None
    gain_db: float


def _low_spectrum(sound_key: str, settings: Settings, pitch: float, clip: Clip | None = None) -> NDArray[np.complex128]:
    if clip is None:
        audio = play_note(sound_key, pitch, 0.4, settings=settings).mean(axis=0)[:SIZE]
    else:
        found = library.read(clip.sample, round(clip.start_s * RATE_HZ), min(SIZE, round(clip.seconds * RATE_HZ)))
        audio = np.zeros(1) if found is None else found.mean(axis=0) * 10.0 ** (clip.gain_db / 20.0)
    spectrum = np.fft.rfft(audio, SIZE)
    hz = np.fft.rfftfreq(SIZE, 1 / RATE_HZ)
    return np.where((hz >= LOW_HZ) & (hz <= HIGH_HZ), spectrum, 0.0)


def _entered(spectrum: NDArray[np.complex128], part: StackPart) -> NDArray[np.complex128]:
    hz = np.fft.rfftfreq(SIZE, 1 / RATE_HZ)
    gain = 10.0 ** (part.level_db / 20.0) * (-1.0 if part.inverted else 1.0)
    return spectrum * gain * np.exp(-2j * np.pi * hz * part.offset_ms / 1000.0)


def _power(spectrum: NDArray[np.complex128]) -> float:
    return float((np.abs(spectrum) ** 2).sum()) + 1e-12


def stack_report(layer: Layer) -> StackReport | None:
    """None for a layer that stacks nothing, or whose stack brings nothing to the low end."""
    if not layer.stack:
        return None
    pitch = BY_KEY[layer.sound_key].centre
    base = _low_spectrum(layer.sound_key, layer.settings, pitch)
    raw = [(p, _low_spectrum(p.sound_key, p.settings, pitch, p.clip)) for p in layer.stack]
    parts = [(p, s, _entered(s, p)) for p, s in raw]
    alone = _power(base) + sum(_power(entered) for _, _, entered in parts)
    if min(_power(base), max(_power(entered) for _, _, entered in parts)) < 0.002 * alone:
        return None
    whole = base + sum(entered for _, _, entered in parts)
    loss = float(10 * np.log10(alone / _power(whole)))
    remedy, best = None, _power(whole)
    for part, spectrum, entered in parts:
        for inverted in (part.inverted, not part.inverted):
            for offset_ms in (part.offset_ms, *np.arange(0.0, 8.5, 0.5)):
                tried = replace(part, inverted=inverted, offset_ms=float(offset_ms))
                power = _power(whole - entered + _entered(spectrum, tried))
                if power > best * 1.02:
                    remedy, best = tried, power
    return StackReport(loss, loss > LOSS_DB, remedy, float(10 * np.log10(best / _power(whole))))
