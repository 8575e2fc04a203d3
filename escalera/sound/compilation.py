"""The kernels, loaded when they are first called: a start that only plays what is on disk needs none of them."""

from __future__ import annotations

from importlib import import_module
from threading import Lock
from typing import Any

_loading = Lock()  # two threads must not compile the same module at once


class Kernels:
    """The functions of one kernel module, as attributes."""

    def __init__(self, name: str):
        self._name = name

    def __getattr__(self, kernel: str) -> Any:
        with _loading:
            found = getattr(import_module(f"escalera.sound.kernels.{self._name}"), kernel)
        setattr(self, kernel, found)
        return found


KERNEL_MODULES = ("bus", "effect_kernels", "drum_kernels", "tonal", "partials", "air")
bus, effects, drums, tonal, partials, air = (Kernels(name) for name in KERNEL_MODULES)


def load_all() -> None:
    """Load every kernel, so that nothing waits for one later."""
    for name in KERNEL_MODULES:
        with _loading:
            import_module(f"escalera.sound.kernels.{name}")
