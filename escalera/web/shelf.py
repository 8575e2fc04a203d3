"""The shelf: the songs, a new one, the bin."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request, url_for

from escalera.core.energy.schools import SCHOOLS
from escalera.core.song.forms import FORMS
from escalera.core.theory.keys import MODES
from escalera.errors import InputError
from escalera.services.new_song import STARTS, new_song
from escalera.web.drawing import small_stair
from escalera.web.song_view import studio

blueprint = Blueprint("shelf", __name__)


@blueprint.get("/")
def index():  # type: ignore[no-untyped-def]
    cards = [(card, small_stair(card.picture)) for card in studio().shelf()]
    return render_template("shelf/index.html", cards=cards, binned=studio().bin_count())


@blueprint.route("/new", methods=["GET", "POST"])
def new():  # type: ignore[no-untyped-def]
    """The form, and making the song. Everything has a default; nothing needs to be said."""
    message, form = "", request.form
    if request.method == "POST":
        try:
            song = new_song(
                **{
                    k: form[k]
                    for k in ("title", "tempo_bpm", "metre", "key", "school", "form", "form_text", "start")
                    if form.get(k)
                }
            )
            return redirect(url_for("stair.page", song_id=studio().add_song(song, "New song")))
        except InputError as error:
            message = str(error)
    context = {"forms": FORMS, "schools": SCHOOLS, "modes": MODES, "starts": STARTS, "message": message, "values": form}
    return render_template("shelf/new.html", **context), 422 if message else 200


@blueprint.get("/bin")
def bin_page():  # type: ignore[no-untyped-def]
    return render_template("shelf/bin.html", cards=[(c, small_stair(c.picture)) for c in studio().shelf(deleted=True)])


@blueprint.post("/songs/<int:song_id>/bin")
def put_into_bin(song_id: int):  # type: ignore[no-untyped-def]
    studio().set_deleted(song_id, True)
    return redirect(url_for("shelf.index"))


@blueprint.post("/songs/<int:song_id>/restore")
def take_out_of_bin(song_id: int):  # type: ignore[no-untyped-def]
    studio().set_deleted(song_id, False)
    return redirect(url_for("shelf.index"))


@blueprint.post("/songs/<int:song_id>/erase")
def erase(song_id: int):  # type: ignore[no-untyped-def]
    studio().erase(song_id)
    return redirect(url_for("shelf.bin_page"))
