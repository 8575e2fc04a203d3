"""The stair: the main screen of a song, and every edit made on it."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.lanes import CONTROLS
from escalera.core.document.schools import SCHOOLS, SWITCHES
from escalera.core.edits.edit import id_in, section_of, whole_number
from escalera.core.edits.harmony_edits import VOICING_PARTS
from escalera.core.edits.layer_edits import ADDED
from escalera.core.lines.transformations import TRANSFORMATIONS
from escalera.core.moves.suggestions import suggest
from escalera.core.theory.keys import MODES
from escalera.services.balance import LayerShare, known, share_of
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.edits import add_edits, entered
from escalera.web.song_view import LISTS, SongView, looks_alike, song_view, studio

blueprint = Blueprint("stair", __name__, url_prefix="/songs/<int:song_id>")


def context(view: SongView) -> dict[str, Any]:
    return {
        "view": view,
        "song": view.song,
        "head": view.head,
        "controls": CONTROLS,
        "schools": SCHOOLS,
        "switches": SWITCHES,
        "modes": MODES,
        "voicing_parts": VOICING_PARTS,
        "transformations": TRANSFORMATIONS,
        "found": _share(view),
        "fresh_layer": _is_fresh(view),
        **LISTS,
    }


def _is_fresh(view: SongView) -> bool:
    """Whether the chosen layer was added with the last step, so that it is told at once whether it is heard."""
    layer = view.layer
    if layer is None or layer.id != max(x.id for x in view.song.layers):
        return False
    last = studio().history(view.head.song_id, 1)
    return bool(last) and last[0].summary.startswith(ADDED)


def _share(view: SongView) -> LayerShare | None:
    """How much of the chosen layer is heard, where its section was listened to already."""
    layer, section, rendering = view.layer, view.section, studio().rendering
    if layer is None or section is None or not known(rendering, view.song, section.id):
        return None
    return share_of(rendering, view.song, section.id, layer.id, helps=False)


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    return render_template("stair/page.html", **context(view))


@blueprint.get("/inspector")
def inspector(song_id: int) -> ResponseReturnValue:
    """The inspector for another selection; the stair and wall stay."""
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    return render_template("stair/_inspector.html", **context(view), swap=True)


@blueprint.get("/measured")
def measured(song_id: int) -> ResponseReturnValue:
    """Asked for again and again until the measurement is there; then the stair and the inspector with it."""
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    if request.args.get("base") != str(view.head.revision_id):
        return "", 204
    if view.trouble:
        return render_template("stair/_unmeasured.html", **context(view))
    if view.measured is None:
        return render_template("stair/_measuring.html", share=studio().rendering.measured_share(song_id))
    return render_template("stair/_measured.html", **context(view))


@blueprint.get("/helps")
def helps(song_id: int) -> ResponseReturnValue:
    """What would bring a section nearer to its target, with the exact effect of each."""
    song, section_id = studio().head(song_id).song, whole_number(request.args.get("section", ""))
    section_of(song, section_id)
    found = studio().rendering.measured_now(song)
    suggestions = suggest(song, section_id, measured=found.of(section_id).value if found else None)
    return render_template("stair/_helps.html", suggestions=suggestions, section=section_of(song, section_id))


def _fragments(head: Head, outcome: Outcome | None) -> str:
    """What of the page an edit changes; without an outcome, the whole of the newer state."""
    select = request.form.get("select", "")
    view = song_view(head, _made(head, outcome) or select)
    before = outcome.before if outcome else None
    same_wall = before is not None and view.selection.text == select and looks_alike(before, head.song)
    return render_template(
        "stair/_changed.html",
        **context(view),
        summary=outcome.summary if outcome else "",
        same_wall=same_wall,
        entered=entered(outcome),
    )


def _made(head: Head, outcome: Outcome | None) -> str:
    """The selection of a layer that was just added, in the section it was added for; empty where none was."""
    if outcome is None or outcome.before is None or request.form.get("kind") != "add_layer":
        return ""
    made = [x.id for x in head.song.layers if x.id not in outcome.before.layer_by_id]
    return f"layer:{id_in(request.form.get('section_id', ''))}:{made[-1]}:0" if made else ""


add_edits(blueprint, _fragments)
