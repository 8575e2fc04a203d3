"""Echo and room: effects that add their answer to what is there, in a layer's chain or as a shared space."""

from __future__ import annotations

import numpy as np

from escalera.core.time.ruler import RATE_HZ
from escalera.sound.buffers import silent
from escalera.sound.compilation import bus
from escalera.sound.compilation import effects as k
from escalera.sound.effect_stage import LONGEST_TAIL, Add, Audio, Process, Stage, both, mixed

SIZES = (0.24, 0.52, 1.0, 1.0)
SHIMMER = 3


def _echo_delay(s: Stage) -> int:
    return max(64, round(s.still("time_beats") * s.quarter))


def add_echo(source: Audio, out: Audio, s: Stage) -> None:
    """Add the repeats of a stereo source to `out`, both (2, n)."""
    k.echo(
        source[0],
        source[1],
        out[0],
        out[1],
        _echo_delay(s),
        s.values("feedback"),
        s.still("low_hz"),
        s.still("high_hz"),
        int(s.still("sides")),
        s.still("duck"),
    )


def beside_dry(add: Add) -> Process:
    """An effect in a chain that adds its answer to what went in."""

    def process(audio: Audio, s: Stage) -> Audio:
        dry = both(audio)
        wet = silent(*dry.shape)
        add(np.ascontiguousarray(dry), wet, s)
        return mixed(dry, wet, s.values("mix"))

    return process


def echo_tail(s: Stage) -> int:
    """Samples until repeats have sunk by 54 dB."""
    feedback = float(s.values("feedback").max())
    turns = 1 + int(np.ceil(np.log(0.002) / np.log(max(0.02, feedback))))
    return min(LONGEST_TAIL, _echo_delay(s) * max(2, turns))


def room_effort(s: Stage) -> int:
    """About how long a room takes, an echo being 1."""
    return 5 if int(s.still("kind")) == SHIMMER else 2


def add_room(source: Audio, out: Audio, s: Stage) -> None:
    """Add the room's answer to a stereo source to `out`, both (2, n)."""
    kind, late = int(s.still("kind")), round(s.still("pre_delay_beats") * s.quarter)
    if kind == SHIMMER:
        up = silent(*source.shape)
        for a, b in zip(source, up):
            k.pitch_shift(a, b, 2.0, 0)  # a room blurs what careful grains would mend
        up *= np.float32(0.8)
        bus.add_stereo(*up, *source, 0.45, 0.45)
        source = up
    n = source.shape[1] - late
    if n > 0:
        k.tank(
            source[0, :n],
            source[1, :n],
            out[0, late:],
            out[1, late:],
            s.still("decay_s"),
            s.still("damping"),
            SIZES[kind],
        )


def room_tail(s: Stage) -> int:
    """Samples until a room has sunk by 60 dB, and a little more."""
    return min(
        LONGEST_TAIL, round((s.still("decay_s") * 1.05 + 0.1) * RATE_HZ + s.still("pre_delay_beats") * s.quarter)
    )
