"""Bounces of a song: brought in, laid over the plan, compared; what would bring a section nearer, worded for whoever mixes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import section_of
from escalera.core.moves.suggestions import suggest
from escalera.errors import EscaleraError
from escalera.services.job_kinds import BOUNCE, BRING_IN, MADE_UP, STEMS
from escalera.store.repository import Head
from escalera.web.bounce_view import BounceView
from escalera.web.edits import add_edits
from escalera.web.samples import number_of
from escalera.web.song_view import studio

blueprint = Blueprint("bounces", __name__, url_prefix="/songs/<int:song_id>/bounces")


def view_of(head: Head) -> BounceView:
    kept = studio().bounces.of_song(head.song_id, head.song)
    return BounceView(head, request.values.get("select", ""), kept, number_of("chosen"), number_of("against"))


def context(head: Head) -> dict[str, Any]:
    """What is at work is looked at before what it makes: what is done by then is shown, and what is not is asked after again."""
    busy = {
        "standing": studio().arrivals.standing(), "arriving": studio().at_work(BRING_IN),
        "at_work": studio().at_work(MADE_UP, BOUNCE, STEMS, song_id=head.song_id),
    }  # fmt: skip
    view = view_of(head)
    return {"view": view, "song": view.song, "head": view.head, "place": "bounces", **busy}


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("bounces/page.html", **context(studio().head(song_id)))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(song_id)


def _fragments(song_id: int, said: str = "") -> str:
    return render_template("bounces/_changed.html", **context(studio().head(song_id)), summary=said)


add_edits(blueprint, lambda head, outcome: _fragments(head.song_id, outcome.summary if outcome else ""))


def _changed(song_id: int, act: Callable[[], str]) -> ResponseReturnValue:
    try:
        return _fragments(song_id, act())
    except EscaleraError as error:
        return render_template("_notice.html", message=str(error), kind="error"), error.status


@blueprint.post("/add/<int:sample_id>")
def add(song_id: int, sample_id: int) -> ResponseReturnValue:
    """A recording of the library is a mix of this song."""

    def act() -> str:
        studio().add_bounce(song_id, sample_id, request.form.get("note", ""))
        return "It is being laid over the song."

    return _changed(song_id, act)


@blueprint.post("/made-up")
def made_up(song_id: int) -> ResponseReturnValue:
    """A mix that the program makes up, to try it out."""

    def act() -> str:
        studio().make_up_mix(song_id)
        return "A mix is made up by other sounds; it takes a while."

    return _changed(song_id, act)


@blueprint.post("/<int:bounce_id>/note")
def note(song_id: int, bounce_id: int) -> ResponseReturnValue:
    def act() -> str:
        studio().bounces.set_note(song_id, bounce_id, request.form.get("note", ""))
        return "Noted."

    return _changed(song_id, act)


@blueprint.post("/<int:bounce_id>/read")
def read(song_id: int, bounce_id: int) -> ResponseReturnValue:
    """Lay it over the song as it is now."""

    def act() -> str:
        studio().read_bounce(song_id, bounce_id)
        return "It is being laid over the song again."

    return _changed(song_id, act)


@blueprint.post("/<int:bounce_id>/remove")
def remove(song_id: int, bounce_id: int) -> ResponseReturnValue:
    return _changed(
        song_id, lambda: f"{studio().bounces.remove(song_id, bounce_id)} is no bounce of this song any more."
    )


@blueprint.get("/<int:bounce_id>/help/<int:section_id>")
def helps(song_id: int, bounce_id: int, section_id: int) -> ResponseReturnValue:
    """Moves that would bring a section of the mix nearer to what is wanted, in words."""
    view = view_of(studio().head(song_id))
    section = section_of(view.song, section_id)
    bounce = next((b for b in view.bounces if b.id == bounce_id), None)
    heard = bounce.reading.of(section_id) if bounce and bounce.reading else None
    found = suggest(view.song, section_id, 3, heard.energy) if heard and heard.energy is not None else []
    return render_template("bounces/_help.html", found=found, section=section, head=view.head)
