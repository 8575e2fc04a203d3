"""The page of balance: who fills what, what hides what and what would help; width, rooms, levels; two passages beside each other."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.balance.hearing_dose import dose_percent, minutes_left
from escalera.core.balance.thirds import Floats
from escalera.core.edits.edit import id_in
from escalera.errors import EscaleraError, InputError
from escalera.services.balance import AT_ONCE_S, heard_so_far, known, levels_of, measured_remedy, share_of
from escalera.services.comparing import BothBeside, choices, compared, passage_of, passage_wav
from escalera.services.section_hearing import section_heard, thirds_of
from escalera.store.repository import Head
from escalera.web.balance_view import SHOWN, BalanceView, FoundView
from escalera.web.edits import add_edits
from escalera.web.song_view import studio

blueprint = Blueprint("balance", __name__, url_prefix="/songs/<int:song_id>/balance")
LONGEST_MIN = 24 * 60.0


def view_of(head: Head, listen: bool) -> BalanceView:
    """The page as it stands; with `listen` what is not known yet is listened to first."""
    values = request.values
    view = BalanceView(
        head, values.get("select", ""), None, values.get("shown", ""), values.get("pair", ""),
        id_in(values.get("layer", "")) or 0, values.get("against", "")[:60],
    )  # fmt: skip
    rendering = studio().rendering
    if listen or known(rendering, head.song, view.section.id):
        view.heard = section_heard(rendering, head.song, view.section.id)
        _lay_beside(view, head)
        if view.shown == "levels":
            view.levels = levels_of(rendering, head.song)
    return view


def _lay_beside(view: BalanceView, head: Head) -> None:
    """The outline of what the section is compared with; what is not there any more is said and left out."""
    if not view.against:
        return
    try:
        passage = passage_of(studio(), head, view.against)
        view.outline, view.outline_said = thirds_of(passage.audio, view.heard), passage.label
        if view.shown == "compare":
            view.both = compared(head.song, passage_of(studio(), head, f"section:{view.section.id}"), passage)
    except EscaleraError as error:
        view.against, view.trouble = "", str(error)


def context(view: BalanceView) -> dict[str, Any]:
    head = view.head
    return {
        "view": view, "song": view.song, "head": head, "place": "balance", "tabs": SHOWN,
        "choices": choices(studio(), head), "found": _found(head, 0.0) if view.heard else None,
    }  # fmt: skip


@blueprint.get("")
def page(song_id: int) -> ResponseReturnValue:
    return render_template("balance/page.html", **context(view_of(studio().head(song_id), False)))


@blueprint.get("/show")
def show(song_id: int) -> ResponseReturnValue:
    return _fragments(studio().head(song_id))


def _fragments(head: Head, said: str = "") -> str:
    return render_template("balance/_changed.html", **context(view_of(head, True)), summary=said)


add_edits(blueprint, lambda head, outcome: _fragments(head, outcome.summary if outcome else ""))


def _outline(head: Head) -> Floats | None:
    against = request.values.get("against", "")[:60]
    try:
        return thirds_of(passage_of(studio(), head, against).audio, None) if against else None
    except EscaleraError:
        return None


@blueprint.get("/found")
def found(song_id: int) -> ResponseReturnValue:
    """What the rules find in the sections that were heard so far; asked for again until all were."""
    head = studio().head(song_id)
    return render_template("balance/_found.html", found=_found(head, AT_ONCE_S), head=head, song=head.song)


def _found(head: Head, seconds: float) -> FoundView:
    return FoundView(head, heard_so_far(studio().rendering, head.song, seconds), _outline(head))


@blueprint.get("/share")
def share(song_id: int) -> ResponseReturnValue:
    """How much of a layer is heard in a section, and what would bring it forward: beside the layer on the stair."""
    head = studio().head(song_id)
    section_id, layer_id = (id_in(request.args.get(name, "")) or 0 for name in ("section", "layer"))
    try:
        found = share_of(studio().rendering, head.song, section_id, layer_id)
    except EscaleraError as error:
        return render_template("counting/_sentence.html", message=str(error))
    section = head.song.section_by_id[section_id]
    return render_template(
        "stair/_share.html",
        asked=True,
        found=found,
        head=head,
        song=head.song,
        section=section,
        layer=head.song.layer_by_id[layer_id],
    )


@blueprint.get("/rides")
def rides(song_id: int) -> ResponseReturnValue:
    """What riding a layer through the song would change."""
    head = studio().head(song_id)
    view = FoundView(head, heard_so_far(studio().rendering, head.song, 30.0))
    layer_id = id_in(request.args.get("layer", "")) or 0
    steps = view.rides(layer_id) if layer_id in head.song.layer_by_id else []
    return render_template("balance/_rides.html", steps=steps, head=head, song=head.song, layer_id=layer_id)


@blueprint.get("/tried")
def tried(song_id: int) -> ResponseReturnValue:
    """What a remedy does, measured on a copy."""
    head = studio().head(song_id)
    try:
        measured = measured_remedy(studio().rendering, head.song, request.args.to_dict())
    except InputError as error:
        return render_template("counting/_sentence.html", message=str(error))
    return render_template("balance/_tried.html", measured=measured)


def _both(song_id: int) -> BothBeside:
    head = studio().head(song_id)
    one, other = (passage_of(studio(), head, request.args.get(name, "")) for name in ("one", "other"))
    return compared(head.song, one, other)


@blueprint.get("/beside/<int:which>.wav")
def beside_wav(song_id: int, which: int) -> ResponseReturnValue:
    """One of two passages, at the loudness of both."""
    both = _both(song_id)
    passage = (both.one, both.other)[min(1, which)]
    answer = Response(passage_wav(passage, both.gains_db[min(1, which)]), mimetype="audio/wav")
    answer.headers["Cache-Control"] = "no-store"
    return answer


@blueprint.get("/dose")
def dose(song_id: int) -> ResponseReturnValue:
    """How much of a day's dose some minutes at a level take: an estimate."""
    try:
        minutes, level = (float(request.args.get(name, "")) for name in ("minutes", "level"))
    except ValueError:
        return render_template(
            "counting/_sentence.html", message="Write the level at your ears as a number, for example 75."
        )
    if not 0 <= minutes <= LONGEST_MIN or not 40 <= level <= 120:
        return render_template(
            "counting/_sentence.html", message=f"{level:g} dBA lies outside 40 to 120. Write the level at your ears."
        )
    return render_template(
        "balance/_dose.html", percent=dose_percent(minutes, level), left=minutes_left(minutes, level), level=level
    )
