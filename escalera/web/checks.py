"""Judgement on the stair: what the checks found, what would fix it, what is accepted."""

from __future__ import annotations

from datetime import date

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.balance.balance_checks import HeardFacts, heard_judged
from escalera.core.checks import CHECKS, Judged, find_finding, grouped, judged
from escalera.core.checks.fixes import mends
from escalera.core.prompts.prompt_rules import judged_rules
from escalera.core.reading.brief import WISHES, read_brief
from escalera.services.balance import heard_so_far
from escalera.web.song_view import studio

blueprint = Blueprint("judging", __name__, url_prefix="/songs/<int:song_id>/checks")


@blueprint.get("")
def checks(song_id: int) -> ResponseReturnValue:
    """The findings of a song or of one of its sections, ranked, with what was accepted."""
    song, place = studio().head(song_id).song, request.args.get("section", 0, int)
    found = judged(song)
    if place in song.section_by_id:
        meant = tuple(row for row in found.accepted if place in row[0].place)
        found = Judged(tuple(f for f in found.open if place in f.place), meant)
    section = song.section_by_id.get(place)
    groups = grouped(found.open)
    heard = heard_judged(HeardFacts(song, heard_so_far(studio().rendering, song, 0).sections)).open
    return render_template(
        "stair/_checks.html", song=song, found=found, groups=groups, checks=CHECKS, section=section, song_id=song_id,
        heard=[f for f in heard if section is None or place in f.place],
    )  # fmt: skip


@blueprint.get("/brief")
def brief(song_id: int) -> ResponseReturnValue:
    """The brief with what it implies for the song as it is."""
    song = studio().head(song_id).song
    return render_template(
        "stair/_brief.html", song=song, wishes=WISHES, implied=read_brief(song, date.today()), rules=judged_rules(song)
    )


@blueprint.get("/count")
def count(song_id: int) -> ResponseReturnValue:
    """How many findings are open, and where on the stair; asked for a moment after an edit."""
    song = studio().head(song_id).song
    found = judged(song).open
    marks = [(section, [f for f in found if section.id in f.place[:1]]) for section in song.sections]
    return render_template("stair/_marks.html", song=song, number=len(grouped(found)), marks=marks, checks=CHECKS)


@blueprint.get("/finding")
def finding(song_id: int) -> ResponseReturnValue:
    """One finding: its reason, and moves with their exact effect and whether they settle it."""
    head = studio().head(song_id)
    found = find_finding(head.song, request.args.get("key", ""))
    parked = studio().ideas.answers(head.song, found)
    return render_template(
        "stair/_finding.html",
        song=head.song,
        finding=found,
        check=CHECKS[found.check],
        mends=mends(head.song, found),
        parked=parked,
    )
