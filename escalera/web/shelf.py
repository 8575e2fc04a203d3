"""The shelf: the songs, a new one, the bin."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from flask import Blueprint, Response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from escalera.cleaning import parse_json
from escalera.core.document.forms import FORMS
from escalera.core.document.schools import SCHOOLS
from escalera.core.document.song import Song
from escalera.core.layout.plans import STANCES
from escalera.core.rhythm.beat import Hit, beat
from escalera.core.theory.keys import MODES
from escalera.core.time.metre import Metre
from escalera.errors import InputError, NotFound
from escalera.services.capturing import DRUMS, captured_song
from escalera.services.hearing import beat_song, note_song
from escalera.services.job_kinds import MORE_DEMO
from escalera.services.new_song import STARTS, new_song
from escalera.services.starting import WAY_BY_KEY, WAYS, song_by_way
from escalera.services.starting_loops import loops_for, song_of, starting_loops
from escalera.web.drawing import small_stair
from escalera.web.song_view import studio

blueprint = Blueprint("shelf", __name__)


@blueprint.get("/")
def index() -> ResponseReturnValue:
    return render_template("shelf/index.html", **_songs(), binned=studio().bin_count(), ways=WAYS)


@blueprint.get("/shelf/songs")
def songs() -> ResponseReturnValue:
    """The songs again while more demo songs are made; nothing where there are as many as the page says."""
    if studio().at_work(MORE_DEMO) and str(len(studio().cards())) == request.args.get("count"):
        return "", 204
    return render_template("shelf/_songs.html", **_songs())


@blueprint.post("/shelf/songs")
def more() -> ResponseReturnValue:
    """Make the other demo songs after all, where that was given up; the songs again."""
    made = studio().last_job(MORE_DEMO)
    if made and made.state == "failed":
        studio().jobs.again(made.id)
    return render_template("shelf/_songs.html", **_songs())


def _songs() -> dict[str, Any]:
    cards = [(card, small_stair(card.picture)) for card in studio().shelf()]
    made = studio().last_job(MORE_DEMO)
    return {
        "cards": cards,
        "coming": made is not None and not made.done,
        "failed": made if made and made.state == "failed" else None,
    }


@blueprint.route("/new", methods=["GET", "POST"])
def new() -> ResponseReturnValue:
    """The form, and making the song. Everything has a default; nothing needs to be said."""
    message, form = "", request.form
    if request.method == "POST":
        try:
            song = new_song(
                **{
                    k: form[k]
                    for k in ("title", "tempo_bpm", "metre", "key", "school", "form", "form_text", "start", "stance")
                    if form.get(k)
                }
            )
            return redirect(url_for("stair.page", song_id=studio().add_song(song, "New song")))
        except InputError as error:
            message = str(error)
    context = {
        "forms": FORMS,
        "schools": SCHOOLS,
        "modes": MODES,
        "starts": STARTS,
        "stances": STANCES,
        "loops": loops_for(),
        "message": message,
        "values": form,
    }
    return render_template("shelf/new.html", **context), 422 if message else 200


@blueprint.get("/new/loops")
def loops() -> ResponseReturnValue:
    """The starting loops that words fit, the best first."""
    words, chosen = request.args.get("words", ""), request.args.get("start", "")
    return render_template("shelf/_loops.html", loops=loops_for(words, request.args.get("school", "")), chosen=chosen)


@blueprint.get("/new/loops/<key>.wav")
def hear_loop(key: str) -> ResponseReturnValue:
    """A starting loop as it begins."""
    if key not in starting_loops():
        raise NotFound("There is no such starting loop. Choose one from the list.")
    return _wav(song_of(key)[0])


@blueprint.post("/new/<way>")
def begin(way: str) -> ResponseReturnValue:
    """A short loop with its first layer, opened on the bench; a whole song, on its stair."""
    song_id = studio().add_song(song_by_way(way), WAY_BY_KEY[way].label)
    return redirect(url_for("stair.page", song_id=song_id)) if WAY_BY_KEY[way].form else _to_bench(song_id)


@blueprint.post("/capture")
def capture() -> ResponseReturnValue:
    """What was played and tapped, as a song on the bench."""
    try:
        notes, taps = (parse_json(request.form.get(name, "[]")) for name in ("notes", "taps"))
        song, _ = captured_song(notes, taps, datetime.now())
    except ValueError:
        raise InputError("What was played cannot be read. Start again.") from None
    return _to_bench(studio().add_song(song, "Caught as it was played"))


def _to_bench(song_id: int) -> ResponseReturnValue:
    song = studio().head(song_id).song
    return redirect(url_for("bench.page", song_id=song_id, select=f"tile:{song.sections[0].id}:0:0:0"))


@blueprint.get("/capture/note/<int:pitch>.wav")
def capture_note(pitch: int) -> ResponseReturnValue:
    """A note before there is a song."""
    return _wav(note_song(Song(), pitch, None))


@blueprint.get("/capture/drum/<drum>.wav")
def capture_drum(drum: str) -> ResponseReturnValue:
    """The low or the high drum before there is a song."""
    if drum not in DRUMS:
        raise NotFound("There is no such drum. Tap the low or the high one.")
    return _wav(beat_song(Song(), beat(960, Metre(1, 4), [Hit(0, DRUMS[drum], 100)]), None, 1))


def _wav(song: Song) -> Response:
    return Response(studio().hear(song), mimetype="audio/wav", headers={"Cache-Control": "private, max-age=86400"})


@blueprint.get("/bin")
def bin_page() -> ResponseReturnValue:
    return render_template("shelf/bin.html", cards=[(c, small_stair(c.picture)) for c in studio().shelf(deleted=True)])


@blueprint.post("/songs/<int:song_id>/bin")
def put_into_bin(song_id: int) -> ResponseReturnValue:
    studio().set_deleted(song_id, True)
    return redirect(url_for("shelf.index"))


@blueprint.post("/songs/<int:song_id>/restore")
def take_out_of_bin(song_id: int) -> ResponseReturnValue:
    studio().set_deleted(song_id, False)
    return redirect(url_for("shelf.index"))


@blueprint.post("/songs/<int:song_id>/recover")
def recover(song_id: int) -> ResponseReturnValue:
    """From a damaged state to the newest one that can be read."""
    studio().recover(song_id)
    return redirect(url_for("stair.page", song_id=song_id))


@blueprint.post("/songs/<int:song_id>/erase")
def erase(song_id: int) -> ResponseReturnValue:
    studio().erase(song_id)
    return redirect(url_for("shelf.bin_page"))
