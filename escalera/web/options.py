"""Options at a join: said or saved while playing, heard one after the other without a gap, chosen in one key press."""

from __future__ import annotations

from flask import Blueprint, Response, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.edits.edit import section_of, whole_number
from escalera.core.moves.option_text import read_options
from escalera.services.passages import heard_options, in_place, paired_options, passage
from escalera.web.song_view import studio

blueprint = Blueprint("options", __name__, url_prefix="/songs/<int:song_id>/options")
LEADS, LENGTHS = (1, 2, 4), (4, 8, 16)


@blueprint.get("")
def options(song_id: int) -> ResponseReturnValue:
    """The options of a section with what each does, and how they are heard."""
    head = studio().head(song_id)
    section = section_of(head.song, whole_number(request.args.get("section", "")))
    return render_template(
        "stair/_options.html",
        head=head,
        song=head.song,
        section=section,
        leads=LEADS,
        lengths=LENGTHS,
        before=head.song.sections[max(0, head.song.index_of(section.id) - 1)],
        options=heard_options(head.song, section),
        pairs=paired_options(head.song, section),
    )


@blueprint.get("/read")
def read(song_id: int) -> ResponseReturnValue:
    """What said options would be, as they are typed; nothing is kept."""
    song = studio().head(song_id).song
    section = section_of(song, whole_number(request.args.get("section", "")))
    said = read_options(song, section.id, request.args.get("text", ""))
    return render_template("stair/_options_read.html", said=said, section=section)


@blueprint.get("/<int:revision_id>/<int:section_id>/<int:body_id>.wav")
def piece(song_id: int, revision_id: int, section_id: int, body_id: int) -> ResponseReturnValue:
    """The join with one option in place. How long it leads in, and how much it lifts, stand in the headers."""
    song = in_place(studio().state(song_id, revision_id), section_id, body_id)
    index = song.index_of(section_of(song, section_id).id)
    before_id = whole_number(request.args.get("before", "0"))
    if before_id and index:
        song = in_place(song, song.sections[index - 1].id, before_id)
    lead, bars = (min(64, abs(whole_number(request.args.get(name, "8")))) for name in ("lead", "bars"))
    heard = passage(studio().rendering, song, section_id, lead, bars)
    answer = Response(
        heard.wav, mimetype="audio/wav", headers={"X-Lead-S": f"{heard.lead_s:.6f}", "Cache-Control": "no-store"}
    )
    if heard.lift_lu is not None:
        answer.headers["X-Lift-LU"] = f"{heard.lift_lu:.1f}"
    return answer
