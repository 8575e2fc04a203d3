"""The bench: one section looped while its drums, chords, bass and lines are written side by side."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.bench.change_warnings import changed_line
from escalera.core.commands import read_command
from escalera.core.edits.note_edits import GRIDS
from escalera.core.edits.voice_edits import DEALS
from escalera.core.lines.note_encoding import HOW_WORDS
from escalera.core.lines.second_voices import INTERVALS
from escalera.core.lines.transformations import TRANSFORMATIONS
from escalera.core.moves.line_copies import copies
from escalera.core.palette.sounds import FAMILIES, SOUNDS
from escalera.errors import EditError
from escalera.services.starting import nexts
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.bench_view import BenchView
from escalera.web.edits import add_edits, effect_on, entered
from escalera.web.groove import place
from escalera.web.song_view import studio

blueprint = Blueprint("bench", __name__, url_prefix="/songs/<int:song_id>/bench")


def view_of(head: Head) -> BenchView:
    return BenchView(head, request.values.get("select", ""), request.values.to_dict())


def context(view: BenchView) -> dict[str, Any]:
    return {
        "view": view,
        "song": view.song,
        "head": view.head,
        "place": "bench",
        "grids": GRIDS,
        "hows": HOW_WORDS,
        "transformations": TRANSFORMATIONS,
        "intervals": INTERVALS,
        "deals": DEALS,
        "nexts": nexts(view.song, view.section),
        "sounds": [
            (f, [s for s in SOUNDS if s.family == f and not s.is_drum and s.register[0] < s.register[1]])
            for f in FAMILIES
        ],
    }


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("bench/page.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id), None)


def _fragments(head: Head, outcome: Outcome | None) -> str:
    view = view_of(head)
    if outcome and outcome.before is not None:  # a layer that was just made is the one to write on
        made = [x.id for x in head.song.layers if x.id not in outcome.before.layer_by_id]
        if made and request.form.get("kind") in ("add_layer", "double_line", "next"):
            view = BenchView(head, f"tile:{view.section.id}:{made[-1]}:{view.phrase}", request.values.to_dict())
    return render_template(
        "bench/_changed.html",
        **context(view),
        summary=outcome.summary if outcome else "",
        effect=effect_on(view.song, view.section.id, outcome),
        entered=entered(outcome),
    )


def _fields() -> dict[str, str]:
    """The fields of a command that is tried, without what the page says of itself."""
    return {k: v for k, v in request.args.items() if k not in ("select", "base", "rungs", "reach", "write", "steps")}


@blueprint.get("/hear.wav")
def hear(song_id: int) -> ResponseReturnValue:
    """An edit heard before it is made: the layers it changes, alone, in this section."""
    view = view_of(studio().head(song_id))
    if view.layer is None:
        raise EditError("There is no layer to hear yet. Add one.")
    form, after = _fields(), view.song
    if form.get("kind"):
        after = read_command(form, view.song).apply(view.song)
    ids = [x.id for x in after.layers if x.id not in view.song.layer_by_id] or [view.layer.id]
    return Response(
        studio().rendering.alone_wav(after, view.section.id, ids[0]),
        mimetype="audio/wav",
        headers={"Cache-Control": "no-store"},
    )


@blueprint.get("/foretold")
def foretold(song_id: int) -> ResponseReturnValue:
    """What a change of the line would bring: notes against the chords bar by bar, and warnings."""
    view = view_of(studio().head(song_id))
    fields = _fields()
    if view.layer is None or fields.get("kind") != "transform_line":
        return ""
    try:
        after = read_command(fields, view.song).apply(view.song)
    except EditError as error:
        return render_template("bench/_foretold.html", trouble=str(error))
    found = changed_line(view.song, after, view.section.id, view.layer.id, view.phrase)
    return render_template("bench/_foretold.html", found=found)


@blueprint.get("/copies")
def copies_of(song_id: int) -> ResponseReturnValue:
    """What a copy of the line on another sound, octave or side would add."""
    view = view_of(studio().head(song_id))
    found = copies(view.song, view.span, view.layer) if view.layer else []
    return render_template("bench/_copies.html", view=view, found=found)


@blueprint.get("/make")
def make(song_id: int) -> ResponseReturnValue:
    """The makers, changes and second voices for the chosen line; asked for when they are looked at."""
    return render_template("bench/_make.html", **context(view_of(studio().head(song_id))))


@blueprint.get("/tune")
def tune(song_id: int) -> ResponseReturnValue:
    """The map of the tune; asked for when it is looked at, since it reads the whole song."""
    view = view_of(studio().head(song_id))
    return render_template("bench/_tune.html", view=view, song=view.song)


add_edits(blueprint, _fragments, place)
