"""History and versions of a song: kept by name, compared stair over stair, heard against each other, also blind."""

from __future__ import annotations

import secrets
from datetime import date

from flask import Blueprint, Response, make_response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.bench.tune_map import without_place
from escalera.core.checks import judged, undecided
from escalera.core.document.song import Song
from escalera.core.edits.edit import section_of, whole_number
from escalera.core.energy.model import arranged
from escalera.core.handing.file_names import plain_name
from escalera.core.moves.differences import section_changes, song_changes
from escalera.core.planning.open_steps import OpenStep, Surroundings, open_steps
from escalera.core.reading.brief import read_brief
from escalera.errors import EscaleraError, InputError
from escalera.services.record import record
from escalera.services.studies import log_of
from escalera.services.studio import picture_of
from escalera.store.repository import Head
from escalera.web.drawing import small_stair
from escalera.web.planning_links import step_url
from escalera.web.song_view import studio

blueprint = Blueprint("versions", __name__, url_prefix="/songs/<int:song_id>")
MOST_STEPS = 6


@blueprint.get("/history")
def history(song_id: int) -> ResponseReturnValue:
    return _history(song_id)


def _history(song_id: int, trouble: str = "", said: str = "") -> ResponseReturnValue:
    head, kept = studio().head(song_id), studio().versions.of(song_id)
    ideas, today = studio().ideas.fits(head.song), date.today()
    lacking = [each for each in read_brief(head.song, today) if each.met is False][:3]
    return render_template(
        "stair/_history.html",
        entries=studio().history(song_id),
        head=head,
        kept=kept,
        names={v.revision_id: v.name for v in kept},
        trouble=trouble,
        said=said,
        findings=judged(head.song).open,
        lacking=lacking,
        ideas=ideas,
        homeless=without_place(head.song),
        waiting=studio().ideas.waiting(),
        steps=_steps(head, today, len(ideas)),
        step_url=step_url,
        undecided=undecided(head.song),
    )


def _steps(head: Head, today: date, ideas: int) -> list[OpenStep]:
    """What to do next in a song, the most pressing first."""
    known = studio().index.one(head.song_id)
    around = Surroundings(today, known.began if known else today, ideas)
    return open_steps(head.song, around)[:MOST_STEPS]


@blueprint.post("/record.md")
def take_record(song_id: int) -> ResponseReturnValue:
    """What was wanted, decided and why, what was used and what is open, as a text to take away."""
    song = studio().head(song_id).song
    learned = [line for study in studio().studies.learned(song_id) for line in log_of(study)]
    text = record(song, studio().history(song_id), studio().versions.of(song_id), date.today(), learned)
    name = f"attachment; filename={plain_name(song.title)}-record.md"
    return Response(text, mimetype="text/markdown", headers={"Content-Disposition": name})


@blueprint.post("/versions")
def keep(song_id: int) -> ResponseReturnValue:
    """Keep a state by name; the answer is the history with it, or with what is wrong."""
    form = request.form
    try:
        studio().versions.keep(
            song_id, whole_number(form.get("revision", "")), form.get("name", ""), form.get("reason", "")
        )
    except InputError as error:
        return make_response(_history(song_id, trouble=str(error)), error.status)
    return _history(song_id, said=f"Kept as “{form['name'].strip()}”.")


@blueprint.post("/versions/<int:version_id>/forget")
def forget(song_id: int, version_id: int) -> ResponseReturnValue:
    try:
        name = studio().versions.forget(song_id, version_id)
    except EscaleraError as error:
        return make_response(_history(song_id, trouble=str(error)), error.status)
    return _history(song_id, said=f"“{name}” is deleted; its state stays in the history.")


@blueprint.get("/compare")
def compare(song_id: int) -> ResponseReturnValue:
    """Two states of a song: stair over stair, what differs, and every shared section to hear in both."""
    first, second = _states(song_id)
    before, after = studio().state(song_id, first), studio().state(song_id, second)
    both = [s for s in after.sections if s.id in before.section_by_id]
    return render_template(
        "stair/_compare.html",
        song_id=song_id,
        states=(first, second),
        names=studio().versions.names(song_id, first, second),
        both=both,
        before=before,
        after=after,
        stairs=(_stair(before), _stair(after)),
        of_song=song_changes(before, after),
        changes=section_changes(before, after),
    )


@blueprint.get("/blind")
def blind(song_id: int) -> ResponseReturnValue:
    """The same section of two states in an order that is not told before the choice."""
    states = _states(song_id)
    section = section_of(studio().state(song_id, states[1]), whole_number(request.args.get("section", "")))
    section_of(studio().state(song_id, states[0]), section.id)
    mixed = states if secrets.randbelow(2) else states[::-1]
    return render_template(
        "stair/_blind.html",
        song_id=song_id,
        states=states,
        mixed=mixed,
        section=section,
        names=studio().versions.names(song_id, *states),
    )


@blueprint.get("/hear/<int:revision_id>/<int:section_id>.wav")
def hear(song_id: int, revision_id: int, section_id: int) -> ResponseReturnValue:
    """One section of one state, as it sounds in the mix; the same gain for every state, so that what is louder stays louder."""
    song = studio().state(song_id, revision_id)
    section_of(song, section_id)
    return Response(studio().rendering.chunk_wav(song, song.index_of(section_id)), mimetype="audio/wav")


def _states(song_id: int) -> tuple[int, int]:
    """The two states asked for; without a second one, the current."""
    second = whole_number(request.args.get("to", "") or str(studio().head(song_id).revision_id))
    return whole_number(request.args.get("from", "")), second


def _stair(song: Song) -> list[tuple[float, float, float, float]]:
    arranged(song)
    return small_stair(picture_of(song))
