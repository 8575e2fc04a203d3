"""Keys of prints as the first format made them, from repr() of what they were made of, so that such prints can be found again.

The shapes of the values are written down here as they were then; nothing but the re-keying of old prints may use this.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from typing import Any

from escalera.sound.schedule import Notes
from escalera.sound.spec import UnitSpec

FIELDS = {
    "UnitSpec": ("sounds", "lowpass_hz", "highpass_hz", "devices", "moving", "seed", "quarter", "tempo"),
    "Stacked": ("sound_key", "settings", "gain", "offset", "pan", "bank", "tuning_hz"),
    "Moving": ("slot", "points", "rate_ticks", "parameter"),
    "Parameter": ("key", "label", "low", "high", "default", "unit", "scale", "choices"),
    "TempoPoint": ("tick", "bpm", "glides"),
    "Variation": (
        "transpose_semitones", "keep", "double", "reverse", "level_start_db", "level_end_db", "lowpass_start_hz", "lowpass_end_hz",
    ),
}  # fmt: skip


def first_print_contents(spec: UnitSpec, notes: Notes) -> set[str]:
    """What the first format may have called a print of these notes with this sound.

    There are several where a curve moves it: numbers were kept as they were typed, and 300 is not written as 300.0.
    """
    points = (
        spec.moving,
        tuple(replace(m, points=tuple((t, _typed(v), s) for t, v, s in m.points)) for m in spec.moving),
    )
    tempos = (spec.tempo, tuple(p._replace(bpm=_typed(p.bpm)) for p in spec.tempo))
    return {_content(replace(spec, moving=m, tempo=t), notes) for m in points for t in tempos}


def _typed(value: float) -> float:
    return int(value) if float(value).is_integer() else value


def _content(spec: UnitSpec, notes: Notes) -> str:
    digest = hashlib.blake2b(digest_size=16)
    arrays = b"".join(a.tobytes() for a in (notes.start, notes.hold, notes.pitch, notes.velocity))
    for part in (b"'print'", _written(spec).encode(), arrays + _written(notes.curves).encode()):
        digest.update(part)
        digest.update(b"\0")
    return digest.hexdigest()


def _written(value: Any) -> str:
    names = FIELDS.get(type(value).__name__)
    if names:
        return f"{type(value).__name__}({', '.join(f'{n}={_written(getattr(value, n))}' for n in names)})"
    if isinstance(value, tuple):
        return f"({', '.join(map(_written, value))}{',' if len(value) == 1 else ''})"
    return repr(value)
