"""The page of joins: one join in close-up, what carries it, heard round and round; builds; the variety map; the table of cues."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.carriers import TENSION_SHAPES
from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.palette.join_kinds import DIVISIONS
from escalera.core.time.ruler import RATE_HZ
from escalera.errors import EditError
from escalera.services.join_service import contrast_of, cues_csv, join_passage, passage_edges, passage_key
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.edits import add_edits
from escalera.web.join_view import AFTER, SHOWN, JoinView
from escalera.web.song_view import studio

blueprint = Blueprint("joins", __name__, url_prefix="/songs/<int:song_id>/joins")
MOST_BARS = 16


def view_of(head: Head, device: str | None = None) -> JoinView:
    values = request.values
    return JoinView(
        head, values.get("select", ""), values.get("device", "") if device is None else device, values.get("shown", "")
    )


def context(view: JoinView) -> dict[str, Any]:
    return {
        "view": view,
        "song": view.song,
        "head": view.head,
        "place": "joins",
        "shapes": TENSION_SHAPES,
        "divisions": DIVISIONS,
        "shown_bars": SHOWN,
    }


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("joins/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id), None)


def _fragments(head: Head, outcome: Outcome | None) -> str:
    view = view_of(head, _made(head, outcome))
    return render_template("joins/_changed.html", **context(view), summary=outcome.summary if outcome else "")


def _made(head: Head, outcome: Outcome | None) -> str | None:
    """The device that an edit brought, to be chosen."""
    if outcome is None or outcome.before is None:
        return None
    old = {d.id for s in outcome.before.sections for d in s.devices}
    new = [d.id for s in head.song.sections for d in s.devices if d.id not in old]
    return str(new[-1]) if new else None


def _without(song: Song, section_id: int, device: str) -> Song:
    """A song without one device of a join, for the ear only; 0 leaves out all of it."""
    if device == "":
        return song
    gone, section = whole_number(device), section_of(song, section_id)
    devices = tuple(d for d in section.devices if gone and d.id != gone)
    return song.with_section(replace(section, devices=devices, build=section.build if gone else None))


def _asked(song_id: int, revision_id: int, section_id: int) -> tuple[Song, int, int, int]:
    song = _without(studio().state(song_id, revision_id), section_id, request.args.get("without", ""))
    index = song.index_of(section_of(song, section_id).id)
    if not index:
        raise EditError("Nothing lies before the first section, so there is no join to hear. Choose a later one.")
    before, after = (
        min(MOST_BARS, max(1, whole_number(request.args.get(n, d))))
        for n, d in (("before", "4"), ("after", str(AFTER)))
    )
    return song, index, before, after


@blueprint.get("/<int:revision_id>/<int:section_id>.wav")
def passage(song_id: int, revision_id: int, section_id: int) -> ResponseReturnValue:
    """The bars about the one. How long it leads in stands in a header; the tag says what the sound depends on."""
    song, index, before, after = _asked(song_id, revision_id, section_id)
    rendering = studio().rendering
    low, one, _ = passage_edges(song, index, before, after)
    answer = Response(join_passage(rendering, song, index, before, after), mimetype="audio/wav")
    answer.headers["X-Lead-S"] = f"{(one - low) / RATE_HZ:.6f}"
    answer.headers["X-Key"] = passage_key(rendering, song, index, before, after)
    answer.headers["Cache-Control"] = "no-store"
    return answer


@blueprint.get("/contrast")
def contrast(song_id: int) -> ResponseReturnValue:
    """How much louder every band is after the one, from the rendered sound."""
    view = view_of(studio().head(song_id))
    bands = contrast_of(studio().rendering, view.song, view.index) if view.there else {}
    return render_template("joins/_contrast.html", bands=bands, view=view)


@blueprint.get("/cues.csv")
def cues(song_id: int) -> ResponseReturnValue:
    head = studio().head(song_id)
    answer = Response(cues_csv(head.song), mimetype="text/csv")
    answer.headers["Content-Disposition"] = "attachment; filename=joins.csv"
    answer.headers["Cache-Control"] = "no-store"
    return answer


add_edits(blueprint, _fragments)
