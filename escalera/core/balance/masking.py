"""What is heard of each layer beside all the others.

A layer is heard in a third-octave and a moment by how far it lies above what the others bring there: 0 at 15 dB below, all of it at
15 dB above, straight between, as the band audibility of ANSI S3.5-1997 (speech intelligibility index). What the others bring is
spread over neighbouring bands by Schroeder, Atal and Hall (1979, J. Acoust. Soc. Am. 66), and lasts a little beyond its end.
Each ear is judged by itself and the better one counts, so that sounds on different sides hide each other less. Bands count by
the layer's own specific loudness there, the 0.23rd power of its level (Zwicker and Fastl, Psychoacoustics).
"""

from __future__ import annotations

from functools import cached_property

import numpy as np

from escalera.core.balance.thirds import SILENT, THIRDS_HZ, TINY, Floats, Levels
from escalera.core.energy.terms import decibels
from escalera.lazy_dataclasses import dataclass

AUDIBLE_DB = 15.0
LOUDNESS_POWER = 0.23
QUIET_DB = 40.0  # below a layer's loudest cell nothing of it counts
LASTING = 0.06  # of a masker that is left a slot (about 93 ms) after its end: 12 dB down


def bark(hz: Floats) -> Floats:
    """Critical-band rate (Traunmüller 1990)."""
    return 26.81 * hz / (1960.0 + hz) - 0.53


def _spreading() -> Floats:
    """Power that a band of the first axis excites in a band of the second, (28, 28); 1 in its own."""
    z = bark(THIRDS_HZ)
    apart = z[None, :] - z[:, None] + 0.474
    return 10.0 ** ((15.81 + 7.5 * apart - 17.5 * np.sqrt(1.0 + apart**2)) / 10.0)


SPREADING = _spreading()


def excitation(power: Floats) -> Floats:
    """What sounds of a power by third-octave excite in every band, lasting a slot beyond their end; shape kept, (slots, 28)."""
    found = power @ SPREADING
    found[1:] = np.maximum(found[1:], LASTING * found[:-1])
    return found


def weights(levels: Levels) -> Floats:
    """How much every slot and band of a layer counts, adding up to 1; all 0 where it is silent. (slots, 28)"""
    power = excitation(levels.total)
    counted = np.where(power > max(power.max(initial=0.0) * 10.0 ** (-QUIET_DB / 10.0), SILENT), power, 0.0)
    loud = counted**LOUDNESS_POWER * (counted > 0)
    return loud / max(float(loud.sum()), TINY)


def audible(power: Floats, others: Floats) -> Floats:
    """Share of a sound that is heard over what others excite, 0..1, by slot and band."""
    ahead = 10.0 * np.log10(np.maximum(power, TINY) / np.maximum(others, TINY))
    return np.clip((ahead + AUDIBLE_DB) / (2.0 * AUDIBLE_DB), 0.0, 1.0)


@dataclass(frozen=True, slots=True)
class Hiding:
    """One layer hides another: the share of it that would be heard without the first, how far the first lies above it in the band where
    it hides most, and where that is: the number of the third-octave."""

    masked: int
    by: int
    share: float
    db: float
    band: int


class Hearing:
    """Layers by their number, with what else sounds (spaces, the end of what came before), heard together."""

    def __init__(self, layers: dict[int, Levels], rest: Levels | None = None, like: Hearing | None = None):
        self.layers, self.rest, self._like = layers, rest, like

    def changed(self, layers: dict[int, Levels]) -> Hearing:
        """Heard with other levels of some layers; of the others nothing is worked out anew."""
        return Hearing({i: layers.get(i, x) for i, x in self.layers.items()}, self.rest, self)

    @cached_property
    def _excited(self) -> dict[int, tuple[Floats, Floats]]:
        like = self._like
        return {
            i: like._excited[i]
            if like is not None and like.layers.get(i) is x
            else (excitation(x.left), excitation(x.right))
            for i, x in self.layers.items()
        }

    @cached_property
    def _all(self) -> tuple[Floats, Floats]:
        if self._like is not None and self._like.rest is self.rest:
            left, right = self._like._all
            for i, (a, b) in self._excited.items():
                c, d = self._like._excited[i]
                if a is not c:
                    left, right = left + a - c, right + b - d
            return np.maximum(left, 0.0), np.maximum(right, 0.0)
        rows = list(self._excited.values())
        if self.rest is not None:
            rows.append((excitation(self.rest.left), excitation(self.rest.right)))
        return sum(r[0] for r in rows), sum(r[1] for r in rows)  # type: ignore[return-value]

    @cached_property
    def _weights(self) -> dict[int, Floats]:
        like = self._like
        return {
            i: like._weights[i] if like is not None and like.layers.get(i) is x else weights(x)
            for i, x in self.layers.items()
        }

    def sounds(self, number: int) -> bool:
        return bool(self._weights[number].any())

    def _heard(self, number: int, without: int | None = None) -> Floats:
        """Audible share by slot and band, of the better ear."""
        own = self._excited[number]
        taken = self._excited[without] if without is not None else (np.zeros(1), np.zeros(1))
        left, right = (
            audible(mine, np.maximum(whole - mine - gone, 0.0)) for whole, mine, gone in zip(self._all, own, taken)
        )
        return np.maximum(left, right)

    def share(self, number: int) -> float:
        """What is heard of a layer, 0..1; of one that is silent 0."""
        return float((self._heard(number) * self._weights[number]).sum())

    @cached_property
    def shares(self) -> dict[int, float]:
        """What is heard of every layer."""
        return {i: self.share(i) for i in self.layers}

    def share_by_band(self, number: int) -> Floats:
        """What is heard of a layer in every third-octave, 0..1, (28,); 0 where it has nothing."""
        weight = self._weights[number]
        return np.asarray((self._heard(number) * weight).sum(axis=0) / np.maximum(weight.sum(axis=0), TINY))

    def hidings(self, least: float = 0.03) -> list[Hiding]:
        """Which layer hides which by at least a share, the most first."""
        found = []
        for i in self.layers:
            weight = self._weights[i]
            if not weight.any():
                continue
            now = self._heard(i)
            for j in self.layers:
                if i != j and self.sounds(j) and self._might(i, j, weight):
                    gain = (self._heard(i, j) - now) * weight
                    if (share := float(gain.sum())) >= least:
                        band = int(gain.sum(axis=0).argmax())
                        found.append(Hiding(i, j, share, self._above(i, j, band), band))
        return sorted(found, key=lambda h: -h.share)

    def hidden_by_slot(self, masked: int, by: int) -> Floats:
        """What one layer hides of another, slot by slot, as a share of what sounds of it then, 0..1, (slots,)."""
        weight = self._weights[masked]
        gone = ((self._heard(masked, by) - self._heard(masked)) * weight).sum(axis=1)
        return np.asarray(gone / np.maximum(weight.sum(axis=1), TINY))

    def _might(self, masked: int, by: int, weight: Floats) -> bool:
        """Whether one reaches the other anywhere near."""
        reach = sum(x.sum() for x in (e * weight for e in self._excited[by]))
        own = sum((e * weight).sum() for e in self._excited[masked])
        return bool(reach > own * 10.0 ** (-AUDIBLE_DB / 10.0))

    def _above(self, masked: int, by: int, band: int) -> float:
        """How far one lies above the other in a band where the other counts, dB."""
        weight = self._weights[masked][:, band]
        over, own = (decibels(sum(e[:, band] for e in self._excited[i])) for i in (by, masked))  # type: ignore[arg-type]
        apart = over - own
        return float((apart * weight).sum() / max(float(weight.sum()), TINY))
