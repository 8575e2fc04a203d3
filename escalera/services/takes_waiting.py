"""Takes while they are sung: pieces of at most a second on disk, so that a closed tab or a killed server loses no more than the last one.

A folder a take: `about.json` says what is recorded and where, `00000.f32` and on are its samples as they came.
"""

from __future__ import annotations

import json
import re
import secrets
import shutil
import time
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from escalera.core.document.limits import MAX_SAMPLE_S
from escalera.core.palette.voice_parts import VOICE_PARTS
from escalera.errors import InputError, NotFound, shown
from escalera.lazy_dataclasses import dataclass

TOKEN = re.compile(r"[A-Za-z0-9_-]{16}")
RATES_HZ = (8_000, 192_000)
MOST_CHANNELS = 2
PIECE_S = 1.5  # a second, and room for what a browser gathers meanwhile
MOST_WAITING = 40
ABANDONED_S = 12.0  # without a further piece: nobody sings any more
FREE_MB = 50
TROUBLE = "trouble.txt"


@dataclass(frozen=True, slots=True)
class TakeAbout:
    """What is being recorded. `zero_s` is where in the recording the section begins, latency taken off; `pass_s` the length of a round
    that goes on (0: none), whose first one begins at `low_ticks`."""

    song_id: int
    section_id: int
    voice: str = "lead"
    rate_hz: int = 44_100
    channels: int = 1
    zero_s: float = 0.0
    low_ticks: int = 0
    high_ticks: int = 0
    pass_s: float = 0.0
    low_s: float = 0.0
    open_end: bool = False
    singer: str = ""
    made_at: str = ""
    lay: str = "first"
    pickup_s: float = 0.5


@dataclass(frozen=True, slots=True)
class WaitingTake:
    """A take that is not kept yet."""

    token: str
    about: TakeAbout
    pieces: int
    still_s: float


class TakesWaiting:
    """Folders of takes that are being sung, or were when something broke."""

    def __init__(self, folder: Path):
        self._folder = folder

    def begin(self, about: TakeAbout) -> str:
        """Announce a take; its token is the name its pieces go under. Raises InputError."""
        if about.voice not in VOICE_PARTS:
            raise InputError(
                f"“{shown(about.voice)}” is no voice of the stack. Choose one of: {', '.join(VOICE_PARTS)}."
            )
        low, high = RATES_HZ
        if not low <= about.rate_hz <= high or not 1 <= about.channels <= MOST_CHANNELS:
            raise InputError(
                f"The input has {about.rate_hz:,} samples a second and {about.channels} channels; {low:,} to {high:,} and one or two are taken. "
                "Choose another input."
            )
        self._need_room()
        token = secrets.token_urlsafe(12)
        folder = self._folder / token
        folder.mkdir(parents=True)
        (folder / "about.json").write_text(json.dumps(asdict(about)))
        return token

    def _need_room(self) -> None:
        self._folder.mkdir(parents=True, exist_ok=True)
        if len(list(self._folder.iterdir())) >= MOST_WAITING:
            raise InputError(
                f"{MOST_WAITING} takes wait to be kept. Load the page of voices again; they are kept then."
            )
        if shutil.disk_usage(self._folder).free < FREE_MB * 1_000_000:
            raise InputError(f"Less than {FREE_MB} MB are free on the disk. Make room on it before you sing.")

    def _place(self, token: str) -> Path:
        folder = self._folder / token
        if not TOKEN.fullmatch(token) or not folder.is_dir():
            raise NotFound("This take is not being recorded any more; it was kept, or given up. Load the page again.")
        return folder

    def about(self, token: str) -> TakeAbout:
        """What is said of a take. Raises NotFound."""
        return _about(self._place(token))

    def piece(self, token: str, number: int, data: bytes) -> None:
        """Keep a piece (32-bit floats, channels in turn), numbered from 0. The same one may come twice."""
        folder = self._place(token)
        about = _about(folder)
        frame = 4 * about.channels
        most = round(PIECE_S * about.rate_hz) * frame
        if len(data) % frame or not 0 < len(data) <= most or not 0 <= number <= MAX_SAMPLE_S * 4:
            raise InputError(
                f"A piece of {len(data):,} bytes does not fit a take of {about.channels} channels; up to {most:,} bytes in whole samples do."
            )
        aside = folder / f"{number:05d}.aside"
        try:
            aside.write_bytes(data)
            aside.replace(folder / f"{number:05d}.f32")
        except OSError as error:
            aside.unlink(missing_ok=True)
            raise InputError(
                f"The take cannot be written ({error.strerror or error}). What was sung until now is kept."
            ) from error

    def pieces(self, token: str) -> list[Path]:
        """The pieces that came, in order, up to the first that is missing."""
        found = sorted(self._place(token).glob("*.f32"))
        return [f for i, f in enumerate(found) if int(f.stem) == i]

    def waiting(self, song_id: int = 0) -> list[WaitingTake]:
        """Takes that are not kept yet, of a song or of all."""
        rows = []
        for folder in sorted(self._folder.iterdir()) if self._folder.is_dir() else []:
            try:
                about = _about(folder)
            except (NotFound, OSError):
                continue
            if song_id in (0, about.song_id):
                files = list(folder.glob("*.f32"))
                last = max((f.stat().st_mtime for f in (*files, folder / "about.json")), default=0.0)
                rows.append(WaitingTake(folder.name, about, len(files), time.time() - last))
        return rows

    def abandoned(self, song_id: int = 0) -> list[WaitingTake]:
        """Takes that nobody sings any more, but for those that could not be read once."""
        return [
            w
            for w in self.waiting(song_id)
            if w.still_s > ABANDONED_S and not (self._folder / w.token / TROUBLE).exists()
        ]

    def lay_by(self, token: str, trouble: str) -> None:
        """Leave the pieces of a take that cannot be read where they are, with why, and ask no more about it."""
        (self._place(token) / TROUBLE).write_text(trouble + "\n")

    def clear(self, token: str) -> None:
        shutil.rmtree(self._place(token), ignore_errors=True)


def _about(folder: Path) -> TakeAbout:
    try:
        told: dict[str, Any] = json.loads((folder / "about.json").read_text())
        return TakeAbout(**{f.name: told[f.name] for f in fields(TakeAbout) if f.name in told})
    except (OSError, ValueError, TypeError) as error:
        raise NotFound(
            "What this take was sung over cannot be read any more. Its pieces lie in the data folder under takes."
        ) from error
