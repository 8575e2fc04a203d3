"""The list of ideas: ideas kept in a moment on any page, heard, offered again in songs where they might fit."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import PurePath

from flask import Blueprint, Response, make_response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import section_of, whole_number
from escalera.core.ideas import KINDS, PLACES, cut_pattern, cut_section
from escalera.errors import EscaleraError, InputError
from escalera.web.song_view import studio

blueprint = Blueprint("ideas", __name__)


@blueprint.get("/ideas")
def lot() -> ResponseReturnValue:
    """All ideas, those without a place first."""
    return render_template("ideas/page.html", ideas=studio().ideas.all(), kinds=KINDS)


def _listed(said: str = "", trouble: str = "") -> ResponseReturnValue:
    return render_template("ideas/_list.html", ideas=studio().ideas.all(), kinds=KINDS, said=said, trouble=trouble)


@blueprint.post("/ideas")
def jot() -> ResponseReturnValue:
    """Words, from any page; the answer is a notice."""
    name = studio().ideas.keep_text(request.form.get("text", ""), request.form.get("source", ""))
    return render_template(
        "_notice.html", message=f"“{name}” is saved; it is offered again where it might fit.", kind="calm"
    )


@blueprint.post("/ideas/words")
def words() -> ResponseReturnValue:
    """Words, from the list of ideas itself."""
    return _changed(lambda: f"“{studio().ideas.keep_text(request.form.get('text', ''))}” is saved.")


@blueprint.post("/ideas/sample")
def sample() -> ResponseReturnValue:
    """A recording, with whose it is."""
    file = request.files.get("file")

    def act() -> str:
        if file is None or not file.filename:
            raise InputError("No file was chosen. Choose a recording: WAV, FLAC, AIFF or OGG.")
        name = request.form.get("name", "").strip() or PurePath(file.filename).stem
        return f"“{studio().ideas.keep_sample(name, file.read(), request.form.get('source', ''))}” is saved."

    return _changed(act)


@blueprint.post("/ideas/<int:idea_id>/forget")
def forget(idea_id: int) -> ResponseReturnValue:
    return _changed(lambda: f"“{studio().ideas.forget(idea_id)}” was deleted.")


@blueprint.post("/ideas/<int:idea_id>/again")
def again(idea_id: int) -> ResponseReturnValue:
    """Offer an idea that had found its place once more."""
    return _changed(lambda: f"“{studio().ideas.set_placed(idea_id, '')}” is offered again.")


def _changed(act: Callable[[], str]) -> ResponseReturnValue:
    """The list after an act, with what was done or why not."""
    try:
        return _listed(said=act())
    except EscaleraError as error:
        return make_response(_listed(trouble=str(error)), error.status)


@blueprint.get("/ideas/<int:idea_id>.wav")
def hear(idea_id: int) -> ResponseReturnValue:
    """A pattern or section as it sounds by itself, or a recording as it is."""
    idea = studio().ideas.idea(idea_id)
    data = studio().hear(idea.song) if idea.song else studio().ideas.sample_wav(idea_id)
    return Response(data, mimetype="audio/wav", headers={"Cache-Control": "no-store"})


@blueprint.post("/songs/<int:song_id>/ideas")
def keep(song_id: int) -> ResponseReturnValue:
    """A section, or what a layer plays in a phrase, kept as an idea; the song stays as it is."""
    song, form = studio().head(song_id).song, request.form
    section = section_of(song, whole_number(form.get("section_id", "")))
    if form.get("layer_id"):
        cut = cut_pattern(song, section.id, whole_number(form["layer_id"]), whole_number(form.get("phrase", "0")))
    else:
        cut = cut_section(song, section.id)
    kind = "pattern" if form.get("layer_id") else "section"
    name = studio().ideas.keep_song(kind, cut, f"{song.title}, {section.name}")
    return render_template(
        "_notice.html", message=f"“{name}” is saved as it is now; it is offered again where it might fit.", kind="calm"
    )


@blueprint.get("/songs/<int:song_id>/ideas")
def offered(song_id: int) -> ResponseReturnValue:
    """Ideas that might fit a song, or one of its sections, with why and how."""
    song, place = studio().head(song_id).song, request.args.get("section", 0, int)
    section = song.section_by_id.get(place)
    return render_template(
        "ideas/_offered.html",
        song_id=song_id,
        song=song,
        section=section,
        fits=studio().ideas.fits(song, section.id if section else 0),
        waiting=studio().ideas.waiting(),
        kinds=KINDS,
        places=PLACES,
    )


@blueprint.get("/songs/<int:song_id>/ideas/offer")
def offer(song_id: int) -> ResponseReturnValue:
    """One line for the inspector of a section: the likeliest idea for it, or nothing."""
    song, place = studio().head(song_id).song, request.args.get("section", 0, int)
    found = studio().ideas.fits(song, place) if place in song.section_by_id else []
    return render_template("ideas/_offer.html", fits=found, place=place)


@blueprint.post("/songs/<int:song_id>/ideas/<int:idea_id>/done")
def done(song_id: int, idea_id: int) -> ResponseReturnValue:
    """An idea that a person brought in by hand."""
    song = studio().head(song_id).song
    section = section_of(song, whole_number(request.form.get("section_id", "")))
    studio().ideas.set_placed(idea_id, f"{song.title}, {section.name}")
    return offered(song_id)
