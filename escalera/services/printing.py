"""Printing: a layer frozen to audio that is kept in the store, the original underneath."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from escalera.core.document.song import Song
from escalera.core.edits.curve_edits import PrintLayer
from escalera.core.reading.timeline import timeline
from escalera.formats.audio import decode_audio, encode_audio
from escalera.sound.mix import Renderer
from escalera.sound.plan import print_content
from escalera.sound.schedule import RATE_HZ
from escalera.store.database import Database
from escalera.store.shelves import find_print, keep_print


def print_edit(song: Song, layer_id: int, renderer: Renderer, database: Database) -> PrintLayer:
    """Render a layer wherever it plays, keep the audio, and give the edit that freezes the layer to it."""
    rows: dict[str, list[object]] = {}
    for span in timeline(song).spans:
        for part in renderer.plan(song, span).parts:
            content = print_content(part.spec, part.notes)
            if part.layer_id == layer_id and content not in rows:
                unit = renderer.unit(part)
                rows[content] = [content, _keep(unit.audio, database), unit.offset]
    return PrintLayer(layer_id, list(rows.values()))


def _keep(audio: NDArray[np.float32], database: Database) -> str:
    name = hashlib.blake2b(audio.tobytes(), digest_size=16).hexdigest()
    scale = max(1.0, float(np.abs(audio).max(initial=0.0)) * 1.001)
    flac = encode_audio(audio / np.float32(scale), RATE_HZ, "flac", 24)
    with database.write() as session:
        keep_print(session, name, scale, flac)
    return name


def printed_audio(database: Database, name: str) -> NDArray[np.float32]:
    """Printed audio (channels, n). Raises NotFound."""
    with database.read() as session:
        scale, flac = find_print(session, name)
    audio, _ = decode_audio(flac)
    return np.ascontiguousarray(audio * np.float32(scale))
