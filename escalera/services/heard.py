"""The last two minutes of what was heard, rendered again from the states that were listened to, and kept as a sample."""

from __future__ import annotations

import io
from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from escalera.cleaning import parse_json
from escalera.core.bench.listening import heard, read_listening
from escalera.core.document.fields import adapter
from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of
from escalera.core.reading.rights import used_samples
from escalera.core.samples.licences import LICENCES
from escalera.errors import InputError
from escalera.lazy_dataclasses import dataclass
from escalera.services.balance import tried
from escalera.services.sample_hearing import in_song_wav, laid_layer, part_wav, with_laid, without_layer
from escalera.sound.clips import ramp_in, ramp_out
from escalera.sound.stretching import RATE_HZ

if TYPE_CHECKING:
    from escalera.services.studio import Studio

MOST_S, LEAST_S = 120.0, 1.0
MOST_PARTS = 2000
EDGE = 220  # samples over which one part goes over into the next, 5 ms
Audio = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class HeardPart:
    """A stretch that was listened to: a section of a state, from a moment of it on, with the layers that were heard; where a
    sample was tried in it, which one and how."""

    revision: int
    section: int
    from_s: float
    seconds: float
    alone: str = ""
    off: str = ""
    up: str = ""
    tried: str = ""
    sample: int = 0
    layer: int = 0
    use: str = "loop"
    family: str = ""


def parts_from(text: str) -> list[HeardPart]:
    """What a page noted as JSON, the last two minutes of it. Raises InputError where nothing was heard."""
    try:
        parts = adapter(list[HeardPart]).validate_python(parse_json(text))[-MOST_PARTS:]
    except ValueError as error:
        raise InputError("What was heard could not be read. Play something, and keep it then.") from error
    kept: list[HeardPart] = []
    left = MOST_S
    for part in reversed(parts):
        length = min(part.seconds, left)
        if length > 0 and part.from_s >= 0 and np.isfinite(part.seconds + part.from_s):
            begin = part.from_s + part.seconds - length
            kept.append(replace(part, from_s=begin, seconds=length))
            left -= length
    if MOST_S - left < LEAST_S:
        raise InputError("Nothing was heard yet, or less than a second. Play something, and keep it then.")
    return kept[::-1]


def keep_heard(studio: Studio, song_id: int, parts: list[HeardPart], at: str) -> tuple[int, str]:
    """Keep what was heard of a song as a sample with how it came about; its id and name. `at` is the time of day.

    Rights are those of the samples that the states use: not cleared where one of them is not.
    """
    songs = {part.revision: studio.state(song_id, part.revision) for part in parts}
    audio = _joined(_sound(studio, songs[part.revision], part) for part in parts)
    peak = float(np.abs(audio).max(initial=0.0))
    if peak < 1e-5:
        raise InputError("What was heard was silence. Play something, and keep it then.")
    last = songs[parts[-1].revision]
    used = {u.sample.content: u.sample for song in songs.values() for u in used_samples(song)}
    tried = [studio.samples.sample(p.sample) for p in parts if p.sample]
    used |= {s.content: s for s in tried}
    name = f"Heard in {last.title}, {at}"[:200]
    id = studio.samples.add_audio(
        name, audio, f"Heard in {last.title}", strictest(s.licence for s in used.values()), recipe(songs, parts, tried)
    )
    studio.samples.describe(id, {"credit": "; ".join(dict.fromkeys(s.credit for s in used.values() if s.credit))})
    return id, name


def strictest(licences: Iterable[str]) -> str:
    """The licence of what was made of samples: one that is not cleared before one that asks for a credit, else one's own."""
    rank = sorted(licences, key=lambda key: (LICENCES[key].cleared, not LICENCES[key].credit))
    return rank[0] if rank and not (LICENCES[rank[0]].cleared and not LICENCES[rank[0]].credit) else "own"


def recipe(songs: dict[int, Song], parts: list[HeardPart], tried: list[Any]) -> str:
    """What was heard one after the other, in words: sections, seconds, samples that were tried."""
    names = {s.content: s.name for s in tried}
    said: list[str] = []
    for part in parts:
        section = section_of(songs[part.revision], part.section)
        text = f"{section.name} from {part.from_s:.1f} s for {part.seconds:.1f} s (state {part.revision})"
        said.append(text)
    with_samples = f", with {', '.join(names.values())} tried" if names else ""
    return f"Heard: {'; '.join(said)}{with_samples}"[:300]


def _sound(studio: Studio, song: Song, part: HeardPart) -> Audio:
    section_of(song, part.section)
    song = tried(studio.rendering, song, part.tried) if part.tried else song
    song = heard(song, read_listening(part.alone, part.off, part.up))
    under = without_layer(song, part.layer) if part.layer else song
    audio = _read(in_song_wav(studio.rendering, under, part.section))
    if part.sample:
        after = with_laid(
            song, studio.samples.sample(part.sample), part.section, part.use or "loop", part.family, part.layer
        )
        over = _read(part_wav(studio.rendering, after, part.section, laid_layer(song, after, part.layer)))
        length = max(audio.shape[1], over.shape[1])
        audio = _long(audio, length) + _long(over, length)
    low, count = round(part.from_s * RATE_HZ), max(1, round(part.seconds * RATE_HZ))
    rounds = -(-(low + count) // audio.shape[1])
    return np.tile(audio, rounds)[:, low : low + count] if rounds > 1 else audio[:, low : low + count]


def _read(wav: bytes) -> Audio:
    import soundfile

    data, _ = soundfile.read(io.BytesIO(wav), dtype="float32", always_2d=True)
    return np.ascontiguousarray(data.T)


def _long(audio: Audio, length: int) -> Audio:
    return np.pad(audio, ((0, 0), (0, length - audio.shape[1])))


def _joined(pieces: Iterable[Audio]) -> Audio:
    """Pieces one after the other; each fades over a few milliseconds where it begins and ends, since what was cut off stood still."""
    found = []
    for piece in pieces:
        piece = piece.copy()
        ramp_in(piece, EDGE)
        ramp_out(piece, EDGE)
        found.append(piece)
    return np.concatenate(found, axis=1)
