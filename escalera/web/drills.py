"""Drills: chosen, posed one after the other for five minutes, answered by keys, explained with the sound again; thresholds over time."""

from __future__ import annotations

from flask import Blueprint, Response, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from escalera.core.drills.question import DRILLS
from escalera.core.edits.edit import id_in, whole_number
from escalera.errors import EscaleraError
from escalera.lazy_dataclasses import dataclass
from escalera.services.drills import MINUTES, DrillProgress, Item
from escalera.web.song_view import studio

blueprint = Blueprint("drills", __name__, url_prefix="/drills")
WIDTH, HEIGHT = 120.0, 34.0


@dataclass(frozen=True, slots=True)
class DrawnProgress:
    """A kind's thresholds over time as a line, smaller further down: better is lower."""

    told: DrillProgress
    line: str


def _drawn(told: DrillProgress) -> DrawnProgress:
    values = told.over_time
    if len(values) < 2:
        return DrawnProgress(told, "")
    low, high = min(values), max(values)
    reach = (high - low) or 1.0
    points = [
        (WIDTH * i / (len(values) - 1), HEIGHT - 4 - (HEIGHT - 8) * (v - low) / reach) for i, v in enumerate(values)
    ]
    return DrawnProgress(told, " ".join(f"{x:.1f},{y:.1f}" for x, y in points))


@blueprint.get("")
def page() -> ResponseReturnValue:
    return render_template("drills/page.html", **_context())


def _context(**more: object) -> dict[str, object]:
    song_id = id_in(request.values.get("song", ""))
    section_id = id_in(request.values.get("section", ""))
    head = studio().head(song_id) if song_id else None
    groups: dict[str, list[object]] = {}
    for kind in DRILLS.values():
        groups.setdefault(kind.group, []).append(kind)
    section = head.song.section_by_id.get(section_id) if head is not None else None
    return {
        "groups": groups, "progress": {p.told.kind: p for p in map(_drawn, studio().drills.progress())}, "head": head, "section": section,
        "kinds": DRILLS, "minutes": MINUTES, **more,
    }  # fmt: skip


@blueprint.post("")
def begin() -> ResponseReturnValue:
    """Begin a session of the chosen kinds."""
    form = request.form
    try:
        session_id = studio().drills.begin(
            form.getlist("kind"), id_in(form.get("song", "")), id_in(form.get("section", ""))
        )
    except EscaleraError as error:
        return render_template("drills/page.html", **_context(trouble=str(error))), error.status
    return redirect(url_for("drills.session", session_id=session_id))


@blueprint.get("/<int:session_id>")
def session(session_id: int) -> ResponseReturnValue:
    """The session, with its present question."""
    try:
        posed = studio().drills.pose(session_id)
    except EscaleraError as error:
        return render_template("drills/page.html", **_context(trouble=str(error))), error.status
    part = "drills/_question.html" if request.headers.get("HX-Request") else "drills/session.html"
    right, count = studio().drills.summary(session_id)
    return render_template(part, posed=posed, session_id=session_id, right=right, count=count, kinds=DRILLS)


@blueprint.post("/<int:session_id>")
def answer(session_id: int) -> ResponseReturnValue:
    """An answer: whether it is right, why, and the sound again."""
    form = request.form
    try:
        item = Item.read(form.get("item", ""))
        number = whole_number(form.get("number", ""), "number", 0)
        told = studio().drills.answer(session_id, number, item, form.get("answer", ""))
    except EscaleraError as error:
        return render_template("drills/_told.html", trouble=str(error), session_id=session_id), error.status
    right, count = studio().drills.summary(session_id)
    return render_template("drills/_told.html", told=told, item=item, session_id=session_id, right=right, count=count)


@blueprint.get("/sound.wav")
def sound() -> ResponseReturnValue:
    """A passage of a question."""
    item, part = Item.read(request.args.get("item", "")), whole_number(request.args.get("part", "0"), "part", 0, 99)
    return Response(studio().drills.sound(item, part), mimetype="audio/wav", headers={"Cache-Control": "no-store"})
