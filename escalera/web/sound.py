"""Sound for the player: one section at a time, named by its content."""

from __future__ import annotations

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.bench.listening import heard, read_listening
from escalera.core.document.song import Song
from escalera.core.edits.edit import layer_of, section_of
from escalera.core.palette.sounds import FAMILIES, JOBS, SOUNDS
from escalera.errors import InputError, StaleRevision
from escalera.services.audition import bank_sounds
from escalera.services.balance import tried
from escalera.services.dynamics import measured_dynamics
from escalera.web.song_view import studio

blueprint = Blueprint("sound", __name__, url_prefix="/songs/<int:song_id>")


@blueprint.get("/audio/<int:revision_id>/<int:index>/<key>.wav")
def chunk(song_id: int, revision_id: int, index: int, key: str) -> ResponseReturnValue:
    """One section's finished sound as 16-bit WAV. The same address always gives the same bytes."""
    song = _heard(song_id, revision_id)
    chunks = studio().rendering.chunks(song)
    if index >= len(chunks) or chunks[index].key != key:
        raise StaleRevision("This sound belongs to another state of the song. Load the page again.")
    return _kept(Response(studio().rendering.chunk_wav(song, index), mimetype="audio/wav"))


def _heard(song_id: int, revision_id: int) -> Song:
    """A state as it is listened to: with something tried, with layers alone, left out, or an octave up."""
    values = request.args
    listening = read_listening(values.get("alone", ""), values.get("off", ""), values.get("up", ""))
    song = studio().state(song_id, revision_id)
    return heard(tried(studio().rendering, song, values["tried"]) if values.get("tried") else song, listening)


def _kept(response: Response) -> Response:
    response.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@blueprint.get("/alone/<int:revision_id>/<int:section_id>/<int:layer_id>.wav")
def alone(song_id: int, revision_id: int, section_id: int, layer_id: int) -> ResponseReturnValue:
    """One layer by itself in one section."""
    song = studio().state(song_id, revision_id)
    section_of(song, section_id)
    layer_of(song, layer_id)
    return _kept(Response(studio().rendering.alone_wav(song, section_id, layer_id), mimetype="audio/wav"))


@blueprint.get("/dynamics/<int:section_id>/<int:layer_id>/<int:effect_id>")
def dynamics(song_id: int, section_id: int, layer_id: int, effect_id: int) -> ResponseReturnValue:
    """What an effect does to a layer's level in a section, in a sentence."""
    try:
        found = measured_dynamics(studio().rendering, studio().head(song_id).song, section_id, layer_id, effect_id)
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template("stair/_dynamics.html", found=found)


@blueprint.get("/sounds")
def picker(song_id: int) -> ResponseReturnValue:
    """All sounds by family, to hear and to take: for a layer, as a stacked sound, or for a new layer."""
    head = studio().head(song_id)
    layer = head.song.layer_by_id.get(request.args.get("layer", 0, type=int))
    stack = layer is not None and request.args.get("stack") == "1"
    fitting = [s for s in SOUNDS if not stack or (layer and s.is_drum == layer.sound.is_drum and not s.mono)]
    groups = [(f, [s for s in fitting if s.family == f]) for f in FAMILIES if any(s.family == f for s in fitting)]
    extra = [s for s in bank_sounds() if not stack or (layer and not layer.sound.is_drum)]
    if layer:  # the layer's own family first
        groups.sort(key=lambda g: g[0] != layer.sound.family)
    if extra:
        groups.append(("sound bank", extra))
    return render_template(
        "sounds/picker.html",
        head=head,
        song=head.song,
        layer=layer,
        stack=stack,
        groups=groups,
        jobs=JOBS,
        liked=studio().favourites(),
    )


@blueprint.get("/sounds/<key>.wav")
def audition(song_id: int, key: str) -> ResponseReturnValue:
    """A sound in the song's key and tempo."""
    return Response(studio().audition(song_id, key), mimetype="audio/wav")


@blueprint.post("/sounds/<key>/favourite")
def favourite(song_id: int, key: str) -> ResponseReturnValue:
    studio().set_favourite(key, request.form.get("liked") == "true")
    return "", 204


@blueprint.get("/keys/<int:revision_id>.json")
def sound_keys(song_id: int, revision_id: int) -> ResponseReturnValue:
    """The keys of every section's sound in one state, in order; nothing is rendered for it."""
    song = _heard(song_id, revision_id)
    return {"keys": [chunk.key for chunk in studio().rendering.chunks(song)]}
