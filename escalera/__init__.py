"""Escalera: build a track section by section, on a stair of target energy, energy from layers and from audio."""

__version__ = "0.1.0"
