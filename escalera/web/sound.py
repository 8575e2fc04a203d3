"""Sound for the player: one section at a time, named by its content."""

from __future__ import annotations

from flask import Blueprint, Response

from escalera.errors import NotFound
from escalera.web.song_view import studio

blueprint = Blueprint("sound", __name__, url_prefix="/songs/<int:song_id>")


@blueprint.get("/audio/<int:revision_id>/<int:index>/<key>.wav")
def chunk(song_id: int, revision_id: int, index: int, key: str):  # type: ignore[no-untyped-def]
    """One section's finished sound as 16-bit WAV. The same address always gives the same bytes."""
    song = studio().state(song_id, revision_id)
    chunks = studio().rendering.chunks(song)
    if index >= len(chunks) or chunks[index].key != key:
        raise NotFound("This sound belongs to another state of the song. Load the page again.")
    response = Response(studio().rendering.chunk_wav(song, index), mimetype="audio/wav")
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@blueprint.get("/keys/<int:revision_id>.json")
def sound_keys(song_id: int, revision_id: int):  # type: ignore[no-untyped-def]
    """The keys of every section's sound in one state, in order; nothing is rendered for it."""
    song = studio().state(song_id, revision_id)
    return {"keys": [chunk.key for chunk in studio().rendering.chunks(song)]}
