"""Feedback: what listeners said of a song, laid where it belongs, with what became of it."""

from __future__ import annotations

from collections.abc import Callable

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.remarks import REMARK_STATES, Remark
from escalera.core.edits.edit import Edit, whole_number
from escalera.core.feedback.disagreement import disagreements
from escalera.core.feedback.remark_edits import PlaceFeedback, RemoveFeedback, SetFeedback, TakeDownFeedback
from escalera.core.reading.timeline import timeline
from escalera.errors import EscaleraError
from escalera.services.feedback_lists import remarks_by_place, where
from escalera.store.repository import Head
from escalera.web.song_view import studio

blueprint = Blueprint("feedback", __name__, url_prefix="/songs/<int:song_id>/feedback")


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("feedback/page.html", **_context(studio().head(song_id)))


def _context(head: Head, **more: object) -> dict[str, object]:
    song = head.song
    line = timeline(song)

    def place(remark: Remark) -> str:
        return where(song, line, remark)

    return {
        "head": head, "song": song, "groups": remarks_by_place(song), "clashes": disagreements(song), "where": place,
        "states": REMARK_STATES, "waiting": sum(r.state == "open" for r in song.feedback), **more,
    }  # fmt: skip


def _changed(song_id: int, make: Callable[[], Edit]) -> ResponseReturnValue:
    """Make an edit, and show the list as it is then; a sentence beside it where it cannot be made."""
    head = studio().head(song_id)
    try:
        outcome = studio().edit(song_id, head.revision_id, make())
    except EscaleraError as error:
        return render_template("feedback/_list.html", **_context(head, trouble=str(error))), error.status
    return render_template("feedback/_list.html", **_context(studio().head(song_id), said=outcome.summary))


@blueprint.post("")
def take_down(song_id: int) -> ResponseReturnValue:
    """A list of remarks, a line each."""
    form = request.form
    return _changed(song_id, lambda: TakeDownFeedback(form.get("text", ""), form.get("who", "")))


@blueprint.post("/<int:remark_id>")
def change(song_id: int, remark_id: int) -> ResponseReturnValue:
    """What became of a remark, or where it belongs."""
    form = request.form
    if "state" in form:
        return _changed(song_id, lambda: SetFeedback(remark_id, form["state"], form.get("reason", "")))
    return _changed(
        song_id, lambda: PlaceFeedback(remark_id, whole_number(form.get("section", ""), "section", 0, 2**31))
    )


@blueprint.delete("/<int:remark_id>")
def take_out(song_id: int, remark_id: int) -> ResponseReturnValue:
    return _changed(song_id, lambda: RemoveFeedback(remark_id))


@blueprint.post("/undo")
def undo(song_id: int) -> ResponseReturnValue:
    """The last step of the song is taken back."""
    try:
        studio().undo(song_id)
    except EscaleraError as error:
        return render_template(
            "feedback/_list.html", **_context(studio().head(song_id), trouble=str(error))
        ), error.status
    return render_template(
        "feedback/_list.html", **_context(studio().head(song_id), said="The last step was taken back.")
    )
