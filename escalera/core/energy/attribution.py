"""Who makes the energy. Two readings, never confused: shares that add up, and what would be lost without a layer."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from escalera.core.energy.stats import Stats
from escalera.core.energy.terms import compute_terms

Values = NDArray[np.float64]
SHUFFLES, ROTATIONS = (
    2,
    4,
)  # each order and its reverse: 16 in all; shares differ from exact ones by 0.03 points, 0.2 at most


@lru_cache(maxsize=128)
def layer_orders(count: int) -> NDArray[np.int64]:
    """Fixed orders of `count` layers in which each comes early as often as late: shuffles, rotated, and their reverses.

    Shape (orders, count); each row holds 0..count−1 once.
    """
    dice, rows = np.random.default_rng(count), []
    for _ in range(SHUFFLES):
        shuffled = dice.permutation(count)
        for turn in range(ROTATIONS):
            order = np.roll(shuffled, -(turn * count // ROTATIONS))
            rows += [order, order[::-1]]
    return np.array(rows).reshape(-1, count)


def shares(stats: Stats, energy: Callable[[Values], Values]) -> Values:
    """Order-averaged shares (Shapley 1953, sampled), shape (layers, felt bars).

    In every order layers enter one by one and each is given what it adds; the average over orders adds up to
    the energy of all. `stats` is (layers, felt bars, WIDTH); `energy` maps terms (…, 8) to values.
    """
    count = len(stats)
    if not count:
        return np.zeros(stats.shape[:2])
    orders = layer_orders(count)
    entered = np.cumsum(stats[orders], axis=1, dtype=np.float64)
    values = energy(compute_terms(entered))
    added = np.diff(np.concatenate((np.zeros_like(values[:, :1]), values), axis=1), axis=1)
    total = np.zeros(stats.shape[:2])
    np.add.at(total, orders.ravel(), added.reshape(-1, added.shape[-1]))
    return total / len(orders)


def without_each(stats: Stats, energy: Callable[[Values], Values]) -> Values:
    """Energy less the energy of all other layers, shape (layers, felt bars). About nothing: the layer is not heard."""
    if not len(stats):
        return np.zeros(stats.shape[:2])
    total = stats.sum(axis=0)
    rest = np.maximum(total[None] - stats, 0.0)
    if len(stats) == 1:
        return energy(compute_terms(total))[None]
    return energy(compute_terms(total))[None] - energy(compute_terms(rest))
