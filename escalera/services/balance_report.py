"""The balance of a song as plain data: the stable JSON of the command line; of a recording, what can be said without its layers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from escalera.core.balance.section_heard import HeardSection, correlation, mono_loss_db
from escalera.core.balance.thirds import FLOORS, by_floor, hertz
from escalera.core.document.song import Song
from escalera.core.energy.terms import decibels
from escalera.formats.audio import decode_audio
from escalera.meters.third_octaves import third_octaves
from escalera.services.rendering import RATE_HZ, Rendering
from escalera.services.samples import SUFFIXES
from escalera.services.section_hearing import loud_of, section_heard


def balance_report(rendering: Rendering, song: Song, section_id: int | None = None) -> dict[str, Any]:
    """Every section of a song, or one."""
    ids = [s.id for s in song.sections if section_id in (None, s.id)]
    return {"sections": [_section(section_heard(rendering, song, i)) for i in ids]}


def is_recording(source: str) -> bool:
    """Whether the argument of a command names a file that is a recording and no song."""
    return not source.isdecimal() and source.lower().endswith(SUFFIXES) and Path(source).is_file()


def balance_of_file(path: Path) -> dict[str, Any]:
    """What can be said of a recording without its layers. Raises FormatError where it cannot be read."""
    audio, rate = decode_audio(path.read_bytes())
    if rate != RATE_HZ:
        import soxr

        audio = soxr.resample(np.ascontiguousarray(audio.T), rate, RATE_HZ).T.astype(np.float32)
    return recording_report(path, np.stack((audio[0], audio[-1])))


def recording_report(path: Path, audio: NDArray[np.float32]) -> dict[str, Any]:
    """A finished recording, (2, n) at 44.1 kHz, as one section without layers."""
    loud, levels = loud_of(audio, audio), third_octaves(audio)
    silent = loud.integrated_lufs is None
    return {
        "sections": [
            {
                "name": path.stem, "integrated_lufs": _round(loud.integrated_lufs), "true_peak_dbtp": _round(loud.true_peak_dbtp),
                "limiter_db": None, "correlation": None if silent else _round(correlation(levels), 3),
                "mono_loss_db": None if silent else _round(mono_loss_db(levels)),
                "bands_db": None if silent else _bands(levels.total.mean(axis=0)), "layers": [], "masking": [], "low_owner": {},
            }
        ]
    }  # fmt: skip


def _round(value: float | None, digits: int = 1) -> float | None:
    return None if value is None or not np.isfinite(value) else round(float(value), digits) + 0.0


def _bands(thirds: NDArray[Any]) -> dict[str, float]:
    return {name: round(float(db), 1) for name, db in zip(FLOORS, decibels(by_floor(thirds)))}


def _section(heard: HeardSection) -> dict[str, Any]:
    loud, silent = heard.loud, heard.silent
    shares = heard.hearing.shares
    names = {x.id: x.name for x in heard.layers}
    return {
        "name": heard.name,
        "integrated_lufs": _round(loud.integrated_lufs),
        "true_peak_dbtp": _round(loud.true_peak_dbtp),
        "limiter_db": None if silent else _round(loud.limiter_db, 2),
        "correlation": None if silent else _round(correlation(heard.total), 3),
        "mono_loss_db": None if silent else _round(mono_loss_db(heard.total), 2),
        "layers": [
            {"name": x.name, "audible": round(shares[x.id], 3), "bands_db": _bands(x.mean)} for x in heard.sounding
        ],
        "masking": [
            {
                "masked": names[h.masked],
                "by": names[h.by],
                "band": hertz(h.band),
                "db": round(h.db, 1),
            }
            for h in heard.hidings
        ],
        "low_owner": {names[i]: round(share, 3) for i, share in heard.low.shares().items()},
    }
