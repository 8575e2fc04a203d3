"""The stair: the main screen of a song, and every edit made on it."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template, request
from pydantic import TypeAdapter, ValidationError

from escalera.core.energy.schools import SCHOOLS, SWITCHES
from escalera.core.song.edits import EDITS, Edit
from escalera.core.song.edits.layers import CONTROLS
from escalera.core.song.edits.tiles import PlaceNew
from escalera.core.theory.keys import MODES
from escalera.errors import EditError, EscaleraError, InputError, StaleRevision, shown
from escalera.services import library
from escalera.services.new_song import add_layer_edit
from escalera.services.studio import Outcome
from escalera.web.song_view import LISTS, SongView, song_view, studio

blueprint = Blueprint("stair", __name__, url_prefix="/songs/<int:song_id>")
ADAPTERS: dict[str, TypeAdapter[Any]] = {}


def context(view: SongView) -> dict[str, Any]:
    return {"view": view, "song": view.song, "head": view.head, "controls": CONTROLS, "schools": SCHOOLS,
            "switches": SWITCHES, "modes": MODES, **LISTS}  # fmt: skip


@blueprint.get("")
def page(song_id: int):  # type: ignore[no-untyped-def]
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    return render_template("stair/page.html", **context(view))


@blueprint.get("/inspector")
def inspector(song_id: int):  # type: ignore[no-untyped-def]
    """The inspector for another selection; the stair and wall stay."""
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    return render_template("stair/_inspector.html", **context(view), swap=True)


@blueprint.get("/measured")
def measured(song_id: int):  # type: ignore[no-untyped-def]
    """Asked for again and again until the measurement is there; then the stair and the inspector with it."""
    view = song_view(studio().head(song_id), request.args.get("select", ""))
    if view.measured is None or request.args.get("base") != str(view.head.revision_id):
        return "", 204
    return render_template("stair/_measured.html", **context(view))


@blueprint.get("/history")
def history(song_id: int):  # type: ignore[no-untyped-def]
    return render_template("stair/_history.html", entries=studio().history(song_id), head=studio().head(song_id))


@blueprint.post("/edits")
def edits(song_id: int):  # type: ignore[no-untyped-def]
    """Apply one edit; what changed comes back. A refused one answers with the reason and the state there is."""
    form = request.form.to_dict()
    base = _number(form.pop("base", ""))
    select = form.pop("select", "")
    form.pop("csrf_token", None)

    def apply() -> Outcome:
        if form.get("kind") == "fit_scale":
            return studio().fit_scale(song_id, base)
        return studio().edit(song_id, base, read_edit(form))

    return _answer(song_id, select, apply)


@blueprint.post("/undo")
def undo(song_id: int):  # type: ignore[no-untyped-def]
    return _answer(song_id, request.form.get("select", ""), lambda: Outcome(studio().undo(song_id), "Undone"))


@blueprint.post("/redo")
def redo(song_id: int):  # type: ignore[no-untyped-def]
    return _answer(song_id, request.form.get("select", ""), lambda: Outcome(studio().redo(song_id), "Redone"))


@blueprint.post("/states/<int:revision_id>")
def restore(song_id: int, revision_id: int):  # type: ignore[no-untyped-def]
    base = _number(request.form.get("base", ""))
    return _answer(song_id, request.form.get("select", ""), lambda: studio().restore(song_id, base, revision_id))


def _answer(song_id: int, select: str, act):  # type: ignore[no-untyped-def]
    """Fragments after an act; when it is refused, the notice with the reason (and, if stale, the newer state)."""
    try:
        outcome = act()
    except (InputError, StaleRevision) as error:
        return _refused(song_id, select, error)
    view = song_view(outcome.head, select)
    return render_template("stair/_changed.html", **context(view), summary=outcome.summary)


def _refused(song_id: int, select: str, error: EscaleraError):  # type: ignore[no-untyped-def]
    notice = render_template("_notice.html", message=str(error), kind="error")
    if not isinstance(error, StaleRevision):
        return notice, error.status
    view = song_view(studio().head(song_id), select)
    return render_template("stair/_changed.html", **context(view), summary="") + notice, error.status


def _number(text: str) -> int:
    if not text.isdecimal():
        raise EditError("The page did not say which state it shows. Load it again.")
    return int(text)


def read_edit(form: dict[str, str]) -> Edit:
    """An edit from form fields. Empty fields are left at their defaults. Raises EditError."""
    kind = form.get("kind", "")
    fields = {name: value for name, value in form.items() if name != "kind" and value != ""}
    if kind == "add_layer" and "rows" not in fields:
        return add_layer_edit(fields.get("sound", ""), fields.get("name", ""), fields.get("pattern_key", ""))
    if kind == "place_library":
        return _place_from_library(fields)
    if kind not in EDITS:
        raise EditError(f"“{shown(kind)}” is not an edit. Load the page again.")
    if kind in ("set_chords", "set_notes"):  # an empty line is a value here
        fields = {name: value for name, value in form.items() if name != "kind"}
        fields = {n: v for n, v in fields.items() if v or n not in ("section_id",)}
    try:
        return _adapter(kind).validate_python(fields)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"]) or kind
        raise EditError(
            f"{where.replace('_', ' ')}: “{shown(first.get('input', ''))}” cannot be used ({first['msg'].lower()})."
        ) from error


def _adapter(kind: str) -> TypeAdapter[Any]:
    if kind not in ADAPTERS:
        ADAPTERS[kind] = TypeAdapter(EDITS[kind])
    return ADAPTERS[kind]


def _place_from_library(fields: dict[str, str]) -> Edit:
    chosen = library.patterns().get(fields.pop("pattern_key", ""))
    if chosen is None:
        raise EditError("That pattern is not in the library. Choose one from the list.")
    notes = {"name": chosen.name, "length_ticks": chosen.pattern.length_ticks, "rows": chosen.pattern.to_list()}
    return TypeAdapter(PlaceNew).validate_python({**fields, **notes})
