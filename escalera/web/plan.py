"""The plan of a song: its stage and what the next one lacks, its dates, the people and their shares; and all dates of all songs."""

from __future__ import annotations

import json
from datetime import date

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.document.days import days_said
from escalera.core.document.work_state import STAGES
from escalera.core.handing.file_names import plain_name
from escalera.core.planning.shares import sent_by_whom, shares_trouble
from escalera.core.planning.stages import WORKED
from escalera.core.prompts.prompt_rules import judged_rules
from escalera.errors import EscaleraError
from escalera.web.planning_links import step_url
from escalera.web.song_view import studio

blueprint = Blueprint("plan", __name__)
KINDS = (
    "set_stage", "take_back_stage", "set_release", "set_due", "set_due_done", "set_archived", "add_person", "set_person",
    "remove_person", "set_shares", "sign_share", "set_prompt",
)  # fmt: skip


@blueprint.get("/songs/<int:song_id>/plan")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("plan/page.html", **_context(song_id))


def _context(song_id: int, **more: object) -> dict[str, object]:
    head, today = studio().head(song_id), date.today()
    song = head.song
    shares = "\n".join(f"{p.name} {p.share:g}" for p in song.people if p.share) or "\n".join(
        p.name for p in song.people
    )
    return {
        "head": head, "song": song, "plan": studio().planning.plan(song_id, today), "today": today, "stages": STAGES, "worked": WORKED,
        "step_url": step_url, "days_said": days_said, "shares": shares, "shares_trouble": shares_trouble(song.people),
        "total": sum(p.share for p in song.people), "rules": judged_rules(song), "came_from": sent_by_whom(song), **more,
    }  # fmt: skip


@blueprint.post("/songs/<int:song_id>/plan")
def change(song_id: int) -> ResponseReturnValue:
    """One step of the plan: an edit of the song."""
    head, fields = studio().head(song_id), request.form.to_dict()
    if fields.get("kind") not in KINDS:
        return render_template("plan/_plan.html", **_context(song_id, trouble="That is no step of the plan.")), 422
    if fields["kind"] == "set_release":
        fields["gaps"] = json.dumps(studio().planning.gap_rows())
    if fields["kind"] == "set_due":
        fields["today"] = str(date.today())
    if fields["kind"] in ("set_stage", "sign_share"):
        fields["on"] = fields.get("on") or str(date.today())
    try:
        outcome = studio().command(song_id, head.revision_id, fields)
    except EscaleraError as error:
        return render_template(
            "plan/_plan.html", **_context(song_id, trouble=str(error), kind=fields["kind"], given=fields)
        ), error.status
    return render_template("plan/_plan.html", **_context(song_id, said=outcome.summary))


@blueprint.post("/songs/<int:song_id>/plan/undo")
def undo(song_id: int) -> ResponseReturnValue:
    """The last step of the song is taken back."""
    try:
        studio().undo(song_id)
    except EscaleraError as error:
        return render_template("plan/_plan.html", **_context(song_id, trouble=str(error))), error.status
    return render_template("plan/_plan.html", **_context(song_id, said="The last step was taken back."))


@blueprint.get("/songs/<int:song_id>/plan.ics")
def song_calendar(song_id: int) -> ResponseReturnValue:
    """The due dates of a song as iCalendar."""
    return _calendar(studio().planning.calendar(song_id), plain_name(studio().head(song_id).song.title))


# all dates --------------------------------------------------------------------------------------------------------


@blueprint.get("/dates")
def dates() -> ResponseReturnValue:
    return render_template("plan/dates.html", **_dates())


def _dates(**more: object) -> dict[str, object]:
    planning, today = studio().planning, date.today()
    usual = planning.usual()
    index = studio().index.all()
    troubled = [
        (s, plan.conflicts)
        for s in index.active
        if s.facts.work.due and (plan := planning.plan_of(s, usual, today)).conflicts
    ]
    return {
        "rows": planning.due_rows(today), "troubled": troubled, "waiting": index.waiting, "gaps": planning.gaps(), "stages": STAGES, "today": today,
        "usual": usual, "days_said": days_said, **more,
    }  # fmt: skip


@blueprint.post("/dates/template")
def set_template() -> ResponseReturnValue:
    """The gaps before a release, as rows of the form."""
    form = request.form
    rows = list(zip(form.getlist("what"), form.getlist("days"), form.getlist("stage")))
    try:
        said = studio().planning.set_gaps([] if form.get("usual") else rows)
    except EscaleraError as error:
        return render_template("plan/_template.html", **_dates(template_trouble=str(error), given=rows)), error.status
    return render_template("plan/_template.html", **_dates(template_said=said))


@blueprint.get("/dates.ics")
def calendar() -> ResponseReturnValue:
    """Everything that is due as iCalendar."""
    return _calendar(studio().planning.calendar(), "escalera-dates")


def _calendar(found: bytes, name: str) -> Response:
    headers = {"Content-Disposition": f"attachment; filename={name}.ics"}
    return Response(found, mimetype="text/calendar", headers=headers)
