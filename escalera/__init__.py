"""Escalera: build a track section by section, on a stair of wanted, arranged and measured energy."""

__version__ = "0.1.0"
