"""The page of the logbook: sessions of work over all songs."""

from __future__ import annotations

from datetime import date

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.cleaning import clean_line
from escalera.core.document.days import days_said
from escalera.errors import EscaleraError
from escalera.services.logbook import session_text
from escalera.web.song_view import studio

blueprint = Blueprint("logbook", __name__, url_prefix="/logbook")
MAX_WORDS = 120
MOST_EXPORTED = 2000


def _list(**more: object) -> str:
    words = clean_line(request.values.get("words", ""), MAX_WORDS)
    return render_template("logbook/_list.html", sessions=studio().logbook.sessions(words), words=words, **more)


@blueprint.get("")
def page() -> ResponseReturnValue:
    if request.headers.get("HX-Request"):
        return _list()
    words = clean_line(request.args.get("words", ""), MAX_WORDS)
    return render_template("logbook/page.html", sessions=studio().logbook.sessions(words), words=words)


@blueprint.get("/statistics")
def figures() -> ResponseReturnValue:
    """What the work so far looks like, as pictures with a text beside each."""
    index = studio().index.all()
    return render_template(
        "logbook/statistics.html",
        found=studio().planning.statistics(date.today()),
        waiting=index.waiting,
        timed=studio().today.history(),
        days_said=days_said,
    )


@blueprint.post("/line")
def write_line() -> ResponseReturnValue:
    """A line of one's own for a session."""
    try:
        studio().logbook.write_line(request.form.get("session", ""), request.form.get("text", ""))
    except EscaleraError as error:
        return _list(trouble=str(error)), error.status
    return _list()


@blueprint.get("/logbook.txt")
def as_text() -> ResponseReturnValue:
    """All of it as text."""
    told = "\n\n".join(session_text(s) for s in studio().logbook.sessions(most=MOST_EXPORTED))
    return Response(
        told + "\n", mimetype="text/plain", headers={"Content-Disposition": "attachment; filename=logbook.txt"}
    )
