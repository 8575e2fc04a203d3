"""A real General MIDI sound bank, where a SoundFont file and the fluidsynth library are installed. Optional."""

from __future__ import annotations

import ctypes
import logging
from collections.abc import Callable
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.theory.pitch import STANDARD_HZ
from escalera.core.time.ruler import RATE_HZ
from escalera.settings import Settings

FOLDERS = ("/usr/share/sounds/sf2", "/usr/share/soundfonts")
GAIN = 1.6
BEND_SEMITONES = 2  # the range of a pitch bend as SoundFont players start


Read = Callable[[Any, int], NDArray[np.float32]]


def read_floats(synth: Any, count: int) -> NDArray[np.float32]:
    """The next samples (2, count). As floats, since the library dithers 16-bit samples, and no two reads are the same.

    Raises OSError where the bank’s library fails.
    """
    import fluidsynth

    audio = np.zeros((2, count), np.float32)
    left, right = (channel.ctypes.data_as(ctypes.c_void_p) for channel in audio)
    write = fluidsynth.cfunc(
        "fluid_synth_write_float",
        ctypes.c_int,
        *(
            (name, kind, 1)
            for name, kind in (
                ("synth", ctypes.c_void_p),
                ("len", ctypes.c_int),
                ("lbuf", ctypes.c_void_p),
                ("loff", ctypes.c_int),
                ("lincr", ctypes.c_int),
                ("rbuf", ctypes.c_void_p),
                ("roff", ctypes.c_int),
                ("rincr", ctypes.c_int),
            )
        ),
    )
    if count and write(synth.synth, count, left, 0, 1, right, 0, 1) != 0:
        raise OSError("the synthesizer gave no sound")
    return audio


class Bank:
    """One SoundFont. Every note is played by a synthesizer of its own: a used one keeps traces of what it played, and
    the same note would not give the same bytes. `make` gives a new one, with its reverb and chorus off."""

    def __init__(self, path: Path, make: Callable[[], Any], read: Read):
        self.path, self._make, self._read = path, make, read
        self._lock = Lock()
        self._open(make())

    def _open(self, synth: Any) -> int:
        font: int = synth.sfload(str(self.path))
        if font < 0:
            raise OSError(f"{self.path.name} is not a SoundFont that can be read")
        return font

    def note(
        self, program: int, pitch: int, hold: int, length: int, tuning_hz: float = STANDARD_HZ
    ) -> NDArray[np.float32]:
        """One note at velocity 100, shape (2, length) float32: held for `hold` samples, faded to silence at its end."""
        with self._lock:
            synth = self._make()
            synth.program_select(0, self._open(synth), 0, program)
            synth.pitch_bend(0, round(np.log2(tuning_hz / STANDARD_HZ) * 12 / BEND_SEMITONES * 8192))
            synth.noteon(0, pitch, 100)
            held = self._read(synth, min(hold, length))
            synth.noteoff(0, pitch)
            rest = self._read(synth, max(0, length - hold))
            synth.delete()
        audio = np.concatenate((held, rest), axis=1)
        fade = min(4096, length // 2)
        audio[:, length - fade :] *= np.linspace(1.0, 0.0, fade, dtype=np.float32) ** 2
        return audio


def find_file() -> Path | None:
    """The SoundFont that was named, else the first one installed."""
    named = Settings().soundfont
    if named:
        return Path(named) if Path(named).is_file() else None
    files = sorted(f for folder in FOLDERS for f in Path(folder).glob("*.sf2"))
    return files[0] if files else None


def open_bank() -> Bank | None:
    """The bank, or None where the file or the library is missing; that is said in the log and nowhere else."""
    path = find_file()
    if path is None:
        return None
    try:
        import fluidsynth

        dry = {"synth.reverb.active": 0, "synth.chorus.active": 0}  # said before it is made, else they stay on
        return Bank(path, lambda: fluidsynth.Synth(gain=GAIN, samplerate=float(RATE_HZ), **dry), read_floats)
    except Exception as error:  # the library is missing or does not like the file: the palette plays instead
        logging.getLogger("escalera").info("no sound bank: %s", error)
        return None


_bank: list[Bank | None] = []
_opening = Lock()


def bank() -> Bank | None:
    """The bank of this process, looked for once."""
    with _opening:
        if not _bank:
            _bank.append(open_bank())
    return _bank[0]
