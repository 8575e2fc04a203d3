"""A parameter of a sound or an effect: one number with a range, a default and a unit."""

from __future__ import annotations

import math

from escalera.errors import EditError
from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Parameter:
    """`scale` says how it moves: evenly ("linear"), by ratio ("log"), in whole numbers ("whole"), or among `choices`.

    A choice is stored as its index.
    """

    key: str
    label: str
    low: float
    high: float
    default: float
    unit: str = ""
    scale: str = "linear"
    choices: tuple[str, ...] = ()

    @property
    def movable(self) -> bool:
        """Whether a curve may move it."""
        return self.scale in ("linear", "log")

    def checked(self, value: float) -> float:
        """The value inside the range, whole where it must be. Raises EditError; NaN is never inside."""
        if not self.low <= value <= self.high:
            unit = f" {self.unit}" if self.unit else ""
            raise EditError(
                f"{self.label} {value:g}{unit} lies outside {self.low:g} to {self.high:g}{unit}. "
                f"Choose a value between them."
            )
        return float(round(value)) if self.scale == "whole" or self.choices else float(value)

    def said(self, value: float) -> str:
        """The value as it is shown, with its unit."""
        if self.choices:
            return self.choices[int(value)]
        return f"{value:.3g} {self.unit}".rstrip() if abs(value) < 100 else f"{value:.0f} {self.unit}".rstrip()

    def at(self, share: float) -> float:
        """The value at a share 0..1 of the range, along the scale."""
        if self.scale == "log":
            return self.low * (self.high / self.low) ** share
        return self.low + (self.high - self.low) * share

    def share(self, value: float) -> float:
        """Where a value lies in the range, 0..1, along the scale; the inverse of `at`."""
        value = min(max(value, self.low), self.high)
        if self.scale == "log":
            return math.log(value / self.low) / math.log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)


def choice(key: str, label: str, choices: tuple[str, ...], default: int = 0) -> Parameter:
    """A parameter that chooses one of several names; its value is the index."""
    return Parameter(key, label, 0, len(choices) - 1, default, "", "whole", choices)


Settings = tuple[tuple[str, float], ...]  # changed parameters of a sound or effect by key, sorted


def setting(settings: Settings, parameter: Parameter) -> float:
    """The value of a parameter: what was set, else its default."""
    return next((value for key, value in settings if key == parameter.key), parameter.default)


def with_setting(settings: Settings, parameter: Parameter, value: float) -> Settings:
    """Settings with one changed; a default is not kept."""
    rest = tuple(pair for pair in settings if pair[0] != parameter.key)
    value = parameter.checked(value)
    return rest if value == parameter.default else tuple(sorted((*rest, (parameter.key, value))))
