"""Commands from the pages of a song: fields handed to the studio, and answered with what changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from flask import Blueprint, render_template, request
from flask.typing import ResponseReturnValue

from escalera.core.bench.bass_faults import Fault, entering_faults
from escalera.core.document.song import Layer, Section, Song
from escalera.core.edits.edit import id_in, section_of, whole_number
from escalera.core.energy.model import section_energy
from escalera.core.reading.section_harmony import section_key
from escalera.core.reading.timeline import timeline
from escalera.errors import EditError, InputError, StaleRevision
from escalera.services.studio import Outcome
from escalera.store.repository import Head
from escalera.web.song_view import studio

# what a page says of itself beside the command
PAGE_FIELDS = ("select", "hear", "held", "step", "shown", "rungs", "reach", "write", "steps", "csrf_token", "base")
Fragments = Callable[[Head, Outcome | None], str]
Place = Callable[[Song, str], Mapping[str, object]]  # what a page's selection means: section, layer, phrase


def page_command(song_id: int, place: Place | None = None) -> Outcome:
    """The command that a page asks for; where the page stands fills in what its fields leave open."""
    form = request.form.to_dict()
    base = base_number(form.get("base", ""))
    fields = {name: value for name, value in form.items() if name not in PAGE_FIELDS}
    if place is not None and fields.get("kind") in PLACED:
        song = studio().state(song_id, base)
        fields = {name: str(value) for name, value in place(song, form.get("select", "")).items()} | fields
    return studio().command(song_id, base, fields)


# commands about the phrase or section that a page shows, so that its buttons need not say which
PLACED = {
    "hit",
    "say",
    "tap",
    "take_groove",
    "take_fill",
    "vary_beat",
    "adopt_groove",
    "next",
    "set_chords_here",
    "drum_density",
    "roll_hits",
    "groove_family",
    "remove_fill",
}


def answer(song_id: int, act: Callable[[], Outcome], fragments: Fragments) -> ResponseReturnValue:
    """Fragments after an act; when it is refused, the notice with the reason (and, if stale, the newer state)."""
    try:
        outcome = act()
    except StaleRevision as error:
        notice = render_template("_notice.html", message=str(error), kind="error")
        return fragments(studio().head(song_id), None) + notice, error.status
    except InputError as error:
        return render_template("_notice.html", message=str(error), kind="error"), error.status
    return fragments(outcome.head, outcome)


def add_edits(blueprint: Blueprint, fragments: Fragments, place: Place | None = None) -> None:
    """Commands, undo, redo and going back to an earlier state, for a page of a song."""

    def edits(song_id: int) -> ResponseReturnValue:
        return answer(song_id, lambda: page_command(song_id, place), fragments)

    def undo(song_id: int) -> ResponseReturnValue:
        return answer(song_id, lambda: Outcome(studio().undo(song_id), "Undone"), fragments)

    def redo(song_id: int) -> ResponseReturnValue:
        return answer(song_id, lambda: Outcome(studio().redo(song_id), "Redone"), fragments)

    def restore(song_id: int, revision_id: int) -> ResponseReturnValue:
        def act() -> Outcome:
            form = request.form
            verdict = _verdict(song_id, revision_id, form) if form.get("other") else ""
            return studio().restore(song_id, base_number(form.get("base", "")), revision_id, verdict)

        return answer(song_id, act, fragments)

    blueprint.post("/edits")(edits)
    blueprint.post("/states/<int:revision_id>")(restore)
    blueprint.post("/undo")(undo)
    blueprint.post("/redo")(redo)


def _verdict(song_id: int, chosen: int, form: Mapping[str, str]) -> str:
    """What a blind choice leaves in the history."""
    section = section_of(studio().state(song_id, chosen), whole_number(form.get("section", "")))
    other, who, reason = whole_number(form["other"]), form.get("who", ""), form.get("reason", "")
    return studio().versions.verdict(song_id, chosen, other, section.name, who, reason)


def effect_on(song: Song, section_id: int, outcome: Outcome | None) -> tuple[float, float] | None:
    """Arranged energy of a section after and before an edit."""
    before = outcome.before if outcome else None
    if before is None or section_id not in before.section_by_id:
        return None
    after, was = (section_energy(s, timeline(s).span_of(section_id)).value for s in (song, before))
    return after, was


def entered(outcome: Outcome | None) -> list[tuple[Section, Layer, Fault, str]]:
    """Bass faults that an edit brought into a loud section: (section, layer, fault, words)."""
    if outcome is None or outcome.before is None:
        return []
    song = outcome.head.song
    found = entering_faults(outcome.before, song)
    return [
        (span.section, layer, fault, fault.said(section_key(song, span.section))) for span, layer, fault in found[:2]
    ]


def base_number(text: str) -> int:
    if not (number := id_in(text)):
        raise EditError("The page did not say which state it shows. Load it again.")
    return number
