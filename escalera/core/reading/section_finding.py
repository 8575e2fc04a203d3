"""Finding sections in bars of notes: by change of texture and repetition. Says how sure it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

SHORTEST_BARS = 4
SIDE_BARS = 4  # bars compared on either side of a possible join
ALIKE = 0.93  # likeness of two sections' mean bars above which they are called the same part


@dataclass(frozen=True, slots=True)
class Found:
    """Lengths in bars, a letter for every part (equal letters are alike), and confidence 0..1.

    Confidence is the share of the change between bars that the joins explain.
    """

    bars: tuple[int, ...]
    letters: tuple[str, ...]
    density: tuple[float, ...]
    confidence: float


def bar_features(onsets: list[tuple[int, int, int]], bars: int, layers: int) -> NDArray[np.float64]:
    """Features (bars, layers + 12) from (bar, layer, pitch) of every note: how busy each layer is, which pitch classes sound."""
    busy, classes = np.zeros((bars, layers)), np.zeros((bars, 12))
    for bar, layer, pitch in onsets:
        busy[bar, layer] += 1.0
        classes[bar, pitch % 12] += 1.0
    busy = np.sqrt(busy)
    scale = busy.max(axis=0, initial=0.0)
    busy = busy / np.where(scale > 0, scale, 1.0)
    classes = classes / np.maximum(classes.sum(axis=1, keepdims=True), 1.0)
    return np.concatenate((busy, 0.5 * classes), axis=1)


def find_sections(features: NDArray[np.float64]) -> Found:
    """Cut bars into sections of at least four bars, preferring multiples of four. `features` has a row a bar, shape (bars, k)."""
    bars = len(features)
    joins = _joins(features)
    edges = [0, *joins, bars]
    lengths = tuple(b - a for a, b in zip(edges, edges[1:]))
    means = [features[a:b].mean(axis=0) for a, b in zip(edges, edges[1:])]
    within = sum(float(((features[a:b] - m) ** 2).sum()) for (a, b), m in zip(zip(edges, edges[1:]), means))
    total = float(((features - features.mean(axis=0)) ** 2).sum())
    confidence = 1.0 - within / total if total > 1e-9 and len(lengths) > 1 else 0.0
    density = tuple(float(m[:-12].sum()) for m in means)
    return Found(lengths, _letters(means), density, max(0.0, confidence))


def _joins(features: NDArray[np.float64]) -> list[int]:
    bars = len(features)
    novelty = np.zeros(bars + 1)
    for bar in range(SHORTEST_BARS, bars - SHORTEST_BARS + 1):
        before, after = features[max(0, bar - SIDE_BARS) : bar], features[bar : bar + SIDE_BARS]
        novelty[bar] = float(np.linalg.norm(before.mean(axis=0) - after.mean(axis=0)))
    if novelty.max() < 0.15:
        return _regular(bars)
    threshold = max(0.2, 0.45 * float(novelty.max()))
    joins: list[int] = []
    last = 0
    for bar in range(SHORTEST_BARS, bars - SHORTEST_BARS + 1):
        if bar - last < SHORTEST_BARS or novelty[bar] < threshold:
            continue
        near = range(bar, min(bar + SHORTEST_BARS, bars - SHORTEST_BARS + 1))
        best = max(near, key=lambda b: novelty[b] * (1.25 if (b - last) % 4 == 0 else 1.0))
        if best == bar:
            joins.append(bar)
            last = bar
    return joins


def _regular(bars: int) -> list[int]:
    """Nothing changes: sections of sixteen bars, so that there is something to take hold of."""
    return list(range(16, bars - SHORTEST_BARS + 1, 16))


def _letters(means: list[NDArray[np.float64]]) -> tuple[str, ...]:
    kinds: list[NDArray[np.float64]] = []
    letters = []
    for mean in means:
        likeness = [float(mean @ k / max(1e-9, float(np.linalg.norm(mean) * np.linalg.norm(k)))) for k in kinds]
        if likeness and max(likeness) > ALIKE:
            index = int(np.argmax(likeness))
        else:
            kinds.append(mean)
            index = len(kinds) - 1
        letters.append(chr(ord("A") + index % 26) + (str(index // 26) if index >= 26 else ""))
    return tuple(letters)


def guess_roles(found: Found) -> tuple[str, ...]:
    """Roles from density and place: sparse first and last parts are intro and outro, the densest letter the chorus."""
    if len(found.bars) < 3:
        return ("none",) * len(found.bars)
    by_letter: dict[str, list[float]] = {}
    for letter, value in zip(found.letters, found.density):
        by_letter.setdefault(letter, []).append(value)
    mean = {letter: sum(values) / len(values) for letter, values in by_letter.items()}
    densest, middle = max(mean, key=lambda k: mean[k]), float(np.median(found.density))
    roles = []
    for i, (letter, value) in enumerate(zip(found.letters, found.density)):
        if letter == densest:
            roles.append("chorus")
        elif i == 0 and value < middle:
            roles.append("intro")
        elif i == len(found.bars) - 1 and value < middle:
            roles.append("outro")
        elif value < 0.5 * middle:
            roles.append("break")
        else:
            roles.append("verse")
    return tuple(roles)
